"""The outside world: sheets and archives, read by safe parsers and within bounds."""
