"""How much somebody may store and does, by layer."""
