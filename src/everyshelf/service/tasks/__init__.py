"""Tasks that commits and proposals are for: found by their ids, kept elsewhere."""
