"""What happens on a shelf, told to programs elsewhere."""
