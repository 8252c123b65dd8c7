"""Which location belongs to which shelf: one table for environments, links and data in place."""
