"""Figures. Numbers in, files out; nothing is computed here that a table does not hold."""
