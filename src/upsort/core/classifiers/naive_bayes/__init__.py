"""Naive Bayes: one module an event model, what they share, and the record of the kind."""
