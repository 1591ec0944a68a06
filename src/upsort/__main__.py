"""`python -m upsort` is the same program as `upsort`."""

from upsort.cli.main import entry

if __name__ == "__main__":
    entry()
