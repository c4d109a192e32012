"""People brought in from a table: columns mapped, faults seen first, then brought in part by part."""
