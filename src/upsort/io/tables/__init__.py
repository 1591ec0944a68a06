"""Readers of tables: delimited text, JSON, Parquet, spreadsheets and folders of texts."""
