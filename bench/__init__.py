"""What the engine and the server are measured with; `python -m bench` prints a table."""
