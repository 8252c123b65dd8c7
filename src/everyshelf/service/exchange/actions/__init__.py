"""Use cases of the exchange with Git."""
