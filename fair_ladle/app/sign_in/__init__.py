"""Signing in, sessions and delegations."""
