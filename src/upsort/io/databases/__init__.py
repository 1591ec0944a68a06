"""SQLite and database servers, to read from and to write to."""
