"""Files that are packed, and archives of many: by which endings they are known, and how a packed one is opened."""

import gzip
import lzma
from collections.abc import Callable
from typing import Any, BinaryIO, cast

LAYERS: dict[str, Callable[[Any], Any]] = {".gz": gzip.open, ".xz": lzma.open}
"""The endings of single packed files, and what opens each."""

COMPRESSED = ".gz"
"""The ending of packed files that can be written too."""

TAR_ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.bz2")
ZIP_ENDINGS = (".zip",)


def is_archive(name: str) -> bool:
    """Whether a file's name is that of an archive."""
    return name.lower().endswith((*ZIP_ENDINGS, *TAR_ENDINGS))


def is_compressed(name: str) -> bool:
    """Whether a file's name is that of an archive, or of a packed file."""
    return is_archive(name) or name.lower().endswith(tuple(LAYERS))


def unpacked_name(name: str) -> str:
    """The name without the endings of packing."""
    while name.lower().endswith(tuple(LAYERS)):
        name = name[: name.rfind(".")]
    return name


def ending_of(name: str) -> str:
    """The ending that says what is in a file, in lower case without its dot, whatever packs it; empty for none."""
    return unpacked_name(name).lower().rpartition(".")[2] if "." in unpacked_name(name) else ""


def packing(stream: BinaryIO) -> BinaryIO:
    """A stream whose content is packed into another, the same bytes each time; to be closed by itself."""
    return cast(BinaryIO, gzip.GzipFile(filename="", fileobj=stream, mode="wb", mtime=0))


def opened(stream: BinaryIO, name: str) -> BinaryIO:
    """The content of a packed file."""
    layer = next(layer for ending, layer in LAYERS.items() if name.lower().endswith(ending))
    return cast(BinaryIO, layer(stream))
