"""Reading files in a process of its own, with limits: whatever a file does to its reader costs one answer."""
