"""Looking after people and groups: the list, what is done to many at once, and who is in which group."""
