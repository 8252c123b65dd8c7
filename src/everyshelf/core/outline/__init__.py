"""The one model every structured kind is read into."""
