"""Tests of rules and verdicts."""
