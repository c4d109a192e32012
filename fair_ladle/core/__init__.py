"""The engine: pure calculation over whole numbers of grains. No clock, database or interface in it."""
