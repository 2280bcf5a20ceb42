"""What, when and what next: pure decisions."""
