"""Changes to allocations: what they would do, and applying them."""
