"""The sorter file: saving, checked loading, and export."""
