"""Tests of places that are reached by protocols of their own, against the real thing."""
