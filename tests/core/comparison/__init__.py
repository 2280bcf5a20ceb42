"""Tests of comparing runs, and of watching."""

from tests import folder_tests

load_tests = folder_tests(__name__)
