"""Other people's ground truth."""
