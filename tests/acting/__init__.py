"""Tests of acting."""
