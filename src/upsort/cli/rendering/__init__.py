"""How results are shown: the view, tables, sentences, and the terminal."""
