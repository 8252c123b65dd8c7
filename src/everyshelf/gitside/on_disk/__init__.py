"""A repository in a folder of this machine, read and written as files: no program of Git ever works in it."""
