"""What needs somebody today."""
