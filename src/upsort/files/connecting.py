"""From an address to a connection with its database."""

from upsort.files.addresses import SQLITE, scheme_of
from upsort.files.database_servers import ServerConnection
from upsort.files.databases import Connection, SQLiteConnection


def connected(address: str, writing: bool = False) -> Connection:
    """A connection. address: with its password hidden. Raises DataProblem where there is none to be had, UsageProblem for what is
    no address."""
    if scheme_of(address) == SQLITE:
        return SQLiteConnection(address, writing)
    return ServerConnection(address)
