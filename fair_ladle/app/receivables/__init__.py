"""What becomes of closed statements: sent, due, paid, reminded of, and asked about."""
