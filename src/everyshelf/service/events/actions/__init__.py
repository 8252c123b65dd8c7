"""Use cases of webhooks."""
