"""From a document's characters to its tokens."""
