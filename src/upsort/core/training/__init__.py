"""From counts to a trained sorter: representing documents, training, calibrating, deciding, extending."""
