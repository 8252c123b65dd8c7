"""What all capabilities share on the web: problems, headers, health, the console's files."""
