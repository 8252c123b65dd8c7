"""Who did what: an append-only log."""
