"""Purchases over time: what was bought against what is promised and used, what a shortfall ahead leaves to do, and
the calendar."""
