"""Other processes, on this machine or on others, that work out parts of what is too large for one."""
