"""Commands that watch a service over time."""
