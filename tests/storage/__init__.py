"""Places of segments elsewhere than in a folder."""
