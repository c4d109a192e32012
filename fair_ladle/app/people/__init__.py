"""People and groups."""
