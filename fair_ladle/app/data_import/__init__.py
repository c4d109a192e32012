"""Data import: an operator's intake, the whole installation's tables at once, checked whole and loaded in one
transaction. `people_import` is another thing: an admin's list of people, mapped on screen, loaded in parts."""
