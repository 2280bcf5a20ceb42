"""Commands of the first hour."""
