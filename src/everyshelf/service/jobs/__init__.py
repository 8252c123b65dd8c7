"""Long work: progress, cancel, restart."""
