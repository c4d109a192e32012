"""Where the bytes sit: what accounts, people, shared folders and categories store, and how that changed."""
