"""What others did on one's shelves since one last looked, and what one follows."""
