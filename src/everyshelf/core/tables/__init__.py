"""Tables of any size: opened from files, matched by columns, compared by key and cell, and profiled.

Small tables or large, rows never become Python objects; they go through an embedded analytical engine with a limit of
memory of its own. Importing that engine takes half a second: modules that not only deal with tables import this package's
when they meet one.
"""
