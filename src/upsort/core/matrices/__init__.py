"""Matrices: sparse ones, and ones in partitions that may be remote."""
