"""Products, the pools of them, and the lots they are made of."""
