"""Individually numbered things: brought in by ranges, reserved while choosing, assigned with what they need."""
