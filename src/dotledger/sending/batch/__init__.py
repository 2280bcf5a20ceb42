"""A whole batch on its way."""
