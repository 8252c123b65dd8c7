"""What an artifact names, which parts of it are used, and what passes on: the ground of the uses graph."""
