"""One module per family of classifiers; `families` names them all."""
