"""What is in use: assignments and storage samples."""
