"""The log as people read it: acts in sentences, with names, and how many there were a day."""
