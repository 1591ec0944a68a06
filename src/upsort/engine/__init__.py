"""How work is spread: in this process, or over several. The result never depends on it."""
