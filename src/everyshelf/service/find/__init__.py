"""Finding artifacts by the words in them, over all shelves one may see."""
