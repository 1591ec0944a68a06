"""Reading a sorter: which terms speak for which label."""
