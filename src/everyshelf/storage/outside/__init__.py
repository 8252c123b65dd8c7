"""Data in the place where it lies: folders of this machine, buckets, files on the web."""
