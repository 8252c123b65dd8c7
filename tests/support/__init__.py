"""Harness and factories of the tests."""
