"""The plan file, its keys, and the files that a plan names."""
