"""Taking, giving back and sharing locations."""
