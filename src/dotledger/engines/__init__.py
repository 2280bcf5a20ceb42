"""Engines that others keep, for what one machine is too small for."""
