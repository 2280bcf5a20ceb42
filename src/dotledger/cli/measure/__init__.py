"""Commands that compare with ground truth."""
