"""Reading a sorter and a corpus: contributions, terms, drift, trends."""
