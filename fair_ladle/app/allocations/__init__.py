"""What pools give accounts, and the positions that follow from it."""
