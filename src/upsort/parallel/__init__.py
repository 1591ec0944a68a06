"""How work is shared: in this process, between processes, or by a cluster. The results are equal."""
