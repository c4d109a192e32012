"""Who changed what, from what to what, in a chain that shows tampering."""
