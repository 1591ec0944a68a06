"""Sources: files, folders, archives, stores of objects and the web."""
