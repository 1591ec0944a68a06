"""Addresses of databases and stores. Their secrets are kept apart from the first moment on: what is shown, written down or handed
on is the address with the secrets hidden, and only who connects asks for the whole."""

import re

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
    """A sentence of a driver without the password of an address, should it stand there."""
    address = full_address(shown)
    for pattern in (_IN_FRONT, _IN_CHOICES):
        for match in pattern.finditer(address):
            if match.group(2) and match.group(2) != _HIDDEN:
                text = text.replace(match.group(2), _HIDDEN)
    return text
