"""Addresses of databases and stores without their secrets, and the endings of compressed files and archives.

What is shown, written or passed on is the address with its secrets hidden; only the connection uses the full address."""

import gzip
import lzma
import re
from collections.abc import Callable
from typing import Any, BinaryIO, cast

SQLITE = "sqlite"
SERVERS = ("postgresql", "mysql", "mariadb", "mssql", "oracle")
_HIDDEN = "***"
_SCHEME = re.compile(r"([a-z][a-z0-9]*)(?:\+[a-z0-9_]+)?://", re.IGNORECASE)
_IN_FRONT = re.compile(r"(?<=://)([^/?#:@]*):(.*)@(?=[^@/]*(?:[/?#]|$))")
_IN_CHOICES = re.compile(r"(?<=[?&])([a-z]*password)=([^&#]*)", re.IGNORECASE)
_whole: dict[str, str] = {}


def scheme_of(name: str) -> str:
    """What an address begins with, without a driver; empty for a name that is no address."""
    match = _SCHEME.match(name)
    return match.group(1).lower() if match is not None else ""


def is_database(name: str) -> bool:
    """Whether a name is the address of a database."""
    return scheme_of(name) in (SQLITE, *SERVERS)


def is_store(name: str) -> bool:
    """Whether a name is the address of an object of a store, or of a page of the web."""
    return bool(scheme_of(name)) and not is_database(name)


def without_secrets(name: str) -> str:
    """The address with its secrets hidden: passwords, and of a store all that stands behind a question mark; anything else as it
    is."""
    if not scheme_of(name):
        return name
    shown = _IN_FRONT.sub(rf"\1:{_HIDDEN}@", name)
    if is_store(name) and "=" in name.partition("?")[2]:
        shown = f"{shown.partition('?')[0]}?{_HIDDEN}"
    shown = _IN_CHOICES.sub(rf"\1={_HIDDEN}", shown)
    if shown != name:
        _whole[shown] = name
    return shown


def full_address(shown: str) -> str:
    """The address with its secrets."""
    return _whole.get(shown, shown)


def without_password(text: str, shown: str) -> str:
    """A sentence of a driver without the password of an address, should it are there."""
    address = full_address(shown)
    for pattern in (_IN_FRONT, _IN_CHOICES):
        for match in pattern.finditer(address):
            if match.group(2) and match.group(2) != _HIDDEN:
                text = text.replace(match.group(2), _HIDDEN)
    return text


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
