"""What happens at and past a cap by itself: warnings, deadlines, holds, thresholds."""
