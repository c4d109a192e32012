"""Price lists of sellers, what a change would have charged, and what a buyer pays."""
