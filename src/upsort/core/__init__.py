"""The computation: arrays and strings in, arrays and dataclasses out. Nothing here reads files, prints or keeps state."""
