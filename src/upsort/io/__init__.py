"""Reading and writing: tables, documents, plans, sorter files. What leaves here is plain dataclasses."""
