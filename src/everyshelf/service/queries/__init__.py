"""SQL over any versions of a shelf's tables, and over the shelf itself."""
