"""The lines of a small text file that a person wrote."""

from pathlib import Path

from upsort.core.errors import DataProblem


def lines_of(path: Path) -> list[str]:
    """All lines. Raises DataProblem for a file that cannot be read, or is not UTF-8."""
    try:
        return path.read_text(encoding="utf-8-sig").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise DataProblem(f"{path} cannot be read: {reason}.", "Check the name and the encoding.") from None
