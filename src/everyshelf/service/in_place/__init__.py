"""Data in place: artifacts whose bytes lie where they lie, in folders, buckets and on the web."""
