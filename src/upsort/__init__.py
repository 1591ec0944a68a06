"""Up Sort: sort labelled documents, judge the sorter honestly, read it, and score new text in bulk."""

__version__ = "0.1.0"
