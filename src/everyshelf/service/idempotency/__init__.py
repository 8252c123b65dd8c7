"""Answers kept so that a write that is sent again does nothing twice."""
