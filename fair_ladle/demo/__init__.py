"""The demo: the intake, and what it needs beside it."""
