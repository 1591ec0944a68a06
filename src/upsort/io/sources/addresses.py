"""Addresses of databases and stores without their secrets, and the endings of compressed files and archives.

What is shown, written or passed on is the address with its secrets hidden; only the connection uses the full address."""

import gzip
import lzma
import re
from collections.abc import Callable
from itertools import chain, count
from pathlib import Path
from typing import Any, BinaryIO, cast
from urllib.parse import quote, unquote

SQLITE = "sqlite"
DUCKDB = "duckdb"
_FILES = (SQLITE, DUCKDB)
SERVERS = ("postgresql", "mysql", "mariadb", "mssql", "oracle")
_POSTGRES = "postgres://"
_SQLITE_ENDINGS, _SQLITE_BEGINS = (".db", ".sqlite", ".sqlite3"), b"SQLite format 3\0"
_HIDDEN = "***"
_SCHEME = re.compile(r"\s*((?:[a-z][a-z0-9+.-]*::)*[a-z][a-z0-9]*)(?:\+[a-z0-9_]+)?://", re.IGNORECASE)
_AN_ADDRESS = re.compile(r"[a-z][a-z0-9+.:-]*://\S+", re.IGNORECASE)
_SEPARATORS = re.compile(r"[:/@?#;&=\s]")
_BEHIND_EACH = re.compile(r"[?&#;]")
_TELLING = re.compile(r"pass|pw|key|token|secret|sig", re.IGNORECASE)
_BEHIND = re.compile(r"[?#;]")
_SHORT = 3  # characters; a shorter secret is part of too many words
_LONG = 8  # from which what stands behind a ? may be a secret, whatever it is called
_secrets: set[str] = set()
_whole: dict[str, str] = {}
_shown: dict[str, str] = {}


def scheme_of(name: str) -> str:
    """What an address begins with, without a driver; empty for a name that is no address."""
    match = _SCHEME.match(name)
    return match.group(1).lower() if match is not None else ""


def address_of(name: str, written: bool = False) -> str:
    """The address that a name means: of a file that is a database of SQLite or DuckDB, or is to be one. written: whether it is to
    be one. Anything else is as it is."""
    if "://" not in name and name.lower().endswith(f".{DUCKDB}"):
        return f"{DUCKDB}:///{name}"
    if "://" in name or any(sign in name for sign in "?#;") or not name.lower().endswith(_SQLITE_ENDINGS):
        return name
    path = Path(name)
    if path.is_file():
        with path.open("rb") as stream:
            written = stream.read(len(_SQLITE_BEGINS)) == _SQLITE_BEGINS
    return f"sqlite:///{name}" if written else name


def is_database(name: str) -> bool:
    """Whether a name is the address of a database."""
    return scheme_of(name) in (*_FILES, *SERVERS)


def is_store(name: str) -> bool:
    """Whether a name is the address of an object of a store, or of a page of the web."""
    return bool(scheme_of(name)) and not is_database(name)


def _parts(address: str) -> tuple[str, str, str, str]:
    """An address in four: the scheme, who asks (to the last @, for whose password any sign may stand), the place, and what comes
    behind a ?, # or ;. The file of an SQLite database, and the key of an object, may hold an @."""
    scheme, mark, rest = address.partition("://")
    while "::" in scheme and "://" in rest:  # an address inside an address
        inner, _, rest = rest.partition("://")
        scheme += mark + inner
    until = len(rest)
    if scheme_of(address) in (*_FILES, *_OBJECTS):
        first = re.split(r"[/?#;]", rest, maxsplit=1)[0]
        until = 0 if scheme_of(address) in _FILES else until if ":" in first else len(first)  # no bucket's name has a colon
    at = rest.rfind("@", 0, until) + 1
    match = _BEHIND.search(rest, at)
    end = match.start() if match is not None else len(rest)
    return scheme + mark, rest[:at], rest[at:end], rest[end:]


_OBJECTS = ("s3", "gs", "gcs", "az", "abfs", "file", "local", "memory")


def _hidden(address: str) -> str:
    before, who, place, behind = _parts(address)
    return f"{before}{f'{_HIDDEN}@' if who else ''}{place}{f'{behind[0]}{_HIDDEN}' if behind else ''}"


def without_secrets(name: str) -> str:
    """The address as it is shown: without who asks, and without all that stands behind a ?, # or ;. Each has a form of its own,
    from which `full_address` finds it again. Anything that is no address is as it is."""
    address = name.strip()
    if address.startswith(_POSTGRES):  # as others call it
        address = f"postgresql://{address.removeprefix(_POSTGRES)}"
    if not scheme_of(name) or address in _whole:
        return name if not scheme_of(name) else address
    if address in _shown:
        return _shown[address]
    hidden = _hidden(address)
    if hidden == address:
        return address
    forms = chain([hidden], (hidden.replace(_HIDDEN, f"{_HIDDEN}{number}", 1) for number in count(2)))
    shown = next(form for form in forms if form not in _whole)
    _whole[shown], _shown[address] = address, shown
    return shown


def database_file(address: str) -> str:
    """The file of the address of a database that is one; empty for another address."""
    return full_address(address).partition(":///")[2].partition("?")[0] if scheme_of(address) in _FILES else ""


def full_address(shown: str) -> str:
    """The address with its secrets."""
    return _whole.get(shown, shown)


def without_secrets_in(text: str) -> str:
    """A text in which addresses are as `without_secrets` shows them, though none of them is kept."""

    def hidden(match: re.Match[str]) -> str:
        address = match.group().rstrip(".,:'\")")
        database, _, table = address.partition("#")
        known = address in _whole or (is_database(database) and table and (database in _whole or _hidden(database) == database))
        return (address if known else _hidden(address)) + match.group()[len(address) :]

    text = _AN_ADDRESS.sub(hidden, text) if "://" in text else text
    for secret in _secrets:  # of an address that is written in another form than as it was given
        text = text.replace(secret, _HIDDEN)
    return text


def whole_address(shown: str) -> str:
    """The address for other machines, a file by its whole path; empty where it has a secret in it, which stays here."""
    if scheme_of(shown) in _FILES:
        return f"{scheme_of(shown)}:///{Path(database_file(shown)).absolute()}"
    address = full_address(shown)
    _, who, _, behind = _parts(address)
    return "" if ":" in who or behind else address


def note_secrets(argument: str) -> None:
    """Remember the secrets of an address among the arguments of a command, so that no message shows them in any form."""
    address = argument.partition("=")[2] if argument.startswith("--") else argument
    if scheme_of(address):
        _, who, _, behind = _parts(address)
        pieces = {*_SEPARATORS.split(who.partition(":")[2]), *_values(behind, _LONG)}
        _secrets.update(piece for piece in pieces if len(piece) > _SHORT)


def _values(behind: str, least: int) -> set[str]:
    """What stands behind a ?, # or ; and may be secret: values of at least so many characters, or whose name says so."""
    choices = [part.partition("=") for part in _BEHIND_EACH.split(behind)]
    return {value or key for key, _, value in choices if len(value or key) >= least or _TELLING.search(key)}


def message_about(error: object, shown: str) -> str:
    """What a library says of an address, without its secrets; where one of them may be part of other words, that it says nothing
    that can be shown."""
    text = " ".join(str(error).split())
    _, who, _, behind = _parts(full_address(shown))
    password = who.removesuffix("@").partition(":")[2]
    values = _values(behind, _SHORT)
    cut = {part for part in _SEPARATORS.split(who) if len(part) >= _SHORT}  # as who parses an address may cut it
    pieces = {password, *values, *cut}
    forms = {form for piece in pieces for form in (piece, unquote(piece), quote(piece, safe=""))}
    secrets = sorted(forms - {"", _HIDDEN}, key=len)
    if any(secret in text for secret in secrets if len(secret) < _SHORT):
        return "it does not say why without naming a secret"
    for secret in reversed(secrets):
        text = text.replace(secret, _HIDDEN)
    return without_secrets_in(text)[:200].rstrip(".?^ ") or type(error).__name__


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
    return cast(BinaryIO, gzip.GzipFile(filename="", fileobj=stream, mode="wb", compresslevel=6, mtime=0))


def opened(stream: BinaryIO, name: str) -> BinaryIO:
    """The content of a packed file."""
    layer = next(layer for ending, layer in LAYERS.items() if name.lower().endswith(ending))
    return cast(BinaryIO, layer(stream))
