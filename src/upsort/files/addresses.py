"""Addresses of databases. Their passwords are kept apart from the first moment on: what is shown, written down or handed on is
the address with the password hidden, and only who connects asks for the whole."""

import re

from upsort.core.errors import UsageProblem

SQLITE = "sqlite"
SERVERS = ("postgresql", "mysql", "mariadb", "mssql", "oracle")
_HIDDEN = "***"
_SCHEME = re.compile(r"([a-z][a-z0-9]*)(?:\+[a-z0-9_]+)?://", re.IGNORECASE)
_IN_FRONT = re.compile(r"(?<=://)([^/?#:@]*):(.*)@(?=[^@/]*(?:[/?#]|$))")
_IN_CHOICES = re.compile(r"(?<=[?&])([a-z]*password)=([^&#]*)", re.IGNORECASE)
_whole: dict[str, str] = {}


def scheme_of(name: str) -> str:
    """What an address begins with, without a driver; empty for a name that is no address."""
    found = _SCHEME.match(name)
    return found.group(1).lower() if found is not None else ""


def is_database(name: str) -> bool:
    """Whether a name is the address of a database. Raises UsageProblem for an address of another kind."""
    scheme = scheme_of(name)
    if not scheme:
        return False
    if scheme not in (SQLITE, *SERVERS):
        raise UsageProblem(
            f"{name.partition('@')[2] or name} begins with {scheme}://, which is not known here.",
            f"Known are files, folders, and the databases {', '.join((SQLITE, *SERVERS))}.",
        )
    return True


def hidden(name: str) -> str:
    """The address with its password hidden; anything else as it is."""
    if scheme_of(name) not in (SQLITE, *SERVERS):
        return name
    shown = _IN_CHOICES.sub(rf"\1={_HIDDEN}", _IN_FRONT.sub(rf"\1:{_HIDDEN}@", name))
    if shown != name:
        _whole[shown] = name
    return shown


def whole(shown: str) -> str:
    """The address with its password."""
    return _whole.get(shown, shown)


def without_password(text: str, shown: str) -> str:
    """A sentence of a driver without the password of an address, should it stand there."""
    address = whole(shown)
    for pattern in (_IN_FRONT, _IN_CHOICES):
        for found in pattern.finditer(address):
            if found.group(2) and found.group(2) != _HIDDEN:
                text = text.replace(found.group(2), _HIDDEN)
    return text
