"""Use cases of lineage."""
