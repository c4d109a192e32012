"""What an account may cost a month, and being told before it costs more."""
