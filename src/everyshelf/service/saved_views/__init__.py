"""Views of a shelf that people saved: a page with what it was narrowed to, under a name."""
