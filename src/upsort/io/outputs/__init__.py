"""Writers of tables, and files that take their places when they are complete."""
