"""Use cases of news and of following."""
