"""Uses: who uses what on a shelf and across shelves, and who is hit if something goes."""
