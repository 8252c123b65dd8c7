"""The Skerry Line scenario: a small island ferry company's artifacts, and four weeks of their history.

Everything here is made up, from a fixed seed, and goes through the real client.
"""
