"""The names of the two tables into which a corpus is divided."""

TRAINING_NAME = "train.csv"
HELD_OUT_NAME = "held-out.csv"
