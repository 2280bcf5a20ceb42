"""What can be asked of a comparison: why, where, how reliable."""
