"""One module for the work of each command: inputs and a plan in, a result record out. No printing."""
