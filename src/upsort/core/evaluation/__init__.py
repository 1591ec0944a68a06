"""Measuring how good a sorter is, with intervals and baselines; splits and duplicates."""
