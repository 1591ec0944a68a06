"""The command line: the only place that reads arguments or prints."""
