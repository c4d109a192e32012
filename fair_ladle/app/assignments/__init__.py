"""Assigning and releasing units live, under locks, against counters that can be rebuilt."""
