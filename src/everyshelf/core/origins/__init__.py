"""Who last set each part of an artifact: what one version carried over from another, and what follows from many."""
