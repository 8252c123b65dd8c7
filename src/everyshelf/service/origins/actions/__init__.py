"""Use cases of origins."""
