"""Rate cards, readings, statements and costs."""
