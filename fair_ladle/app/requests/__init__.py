"""Requests: an account asks its parent for more, or offers some back."""
