"""Tests of comparing runs, and of watching."""
