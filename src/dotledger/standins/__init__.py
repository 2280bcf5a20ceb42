"""Made-up scenes and simulated services, for the demo, for tests and for your own experiments.

Nothing else in the library imports this room.
"""
