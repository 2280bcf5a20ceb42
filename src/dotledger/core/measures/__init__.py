"""What is counted, the measures made of it, and their intervals."""
