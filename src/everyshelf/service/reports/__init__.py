"""What is told of several capabilities at once: a commit with everything it is part of."""
