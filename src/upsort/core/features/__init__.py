"""From tokens to a weighted document-term matrix."""
