"""What storage systems ask and report, with a key of an account."""
