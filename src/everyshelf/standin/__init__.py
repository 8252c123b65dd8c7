"""A small simulated low-code runtime: a stand-in for the platforms environments live on, for the demo and for tests.

It imports nothing of Every Shelf and knows nothing of it, as a real one would not.
"""
