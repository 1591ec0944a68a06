"""Objects of stores, by fsspec (the extra `upsort[remote]`), and of the web: each is fetched into a copy that lives as long as it
is needed, so that it can be read like a file, again and again.

A connection that drops is resumed where it ended. What came is compared with what the store says of it: its size, its digest
where the store says one, and whether it was still the same object at the end."""

import hashlib
import time
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, cast

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.lazy import fsspec, record
from upsort.io.outputs.atomic import LocalCopies
from upsort.io.sources.addresses import full_address, message_about, scheme_of, without_secrets
from upsort.io.sources.web import digest_in, fetch_from_web

_PART = 1 << 20  # bytes asked for at once
_TRIES = 5  # without a byte between them
_WAIT = 0.2  # seconds before the second; each time twice as long
_SIGNS, _SIGNS_OF_WEB = "*?[", "*["  # of patterns
_CHANGING = ("ETag", "etag", "mtime", "LastModified", "updated", "generation", "VersionId", "content-length")
"""What a store may say of an object that would be another if the object were."""


@record(frozen=True)
class Fetched:
    """name: as it is shown. path: of the copy, which has the name of the object. copies: keeps it alive."""

    name: str
    path: Path
    copies: LocalCopies


def fetched(address: str) -> Iterator[Fetched]:
    """All objects that an address, or a pattern, names, in the order of their names. address: with its secrets hidden.

    Raises UsageProblem where nothing installed reads such addresses, DataProblem for what is not there, is denied or cannot be
    read to its end."""
    web = scheme_of(address) in ("http", "https")
    path = full_address(address).partition("://")[2].partition("?")[0].partition("#")[0].partition("/")[2]
    if web and not any(sign in path for sign in _SIGNS_OF_WEB):
        copies = LocalCopies()
        target = copies.named(PurePosixPath(path).name or "index")
        with target.open("wb") as out:
            fetch_from_web(address, cast(BinaryIO, out))
        yield Fetched(address, target, copies)
        return
    store, root = _store(address)
    with _StoreProblems(address):
        signs = _SIGNS_OF_WEB if web else _SIGNS
        names = sorted(store.glob(root)) if any(sign in root for sign in signs) else [root]
        if not names:
            raise DataProblem(f"No object matches {address}.", "Check the pattern; quote it so that the shell leaves it alone.")
        if not web and any(store.isdir(name) and not store.isfile(name) for name in names):
            raise DataProblem(f"{address} is a folder of a store.", f"Name what is in it, for example {address.rstrip('/')}/*.")
    for name in names:
        copies = LocalCopies()
        shown = without_secrets(store.unstrip_protocol(name)) if name != root else address
        target = copies.named(PurePosixPath(name.partition("?")[0]).name or "index")
        with target.open("wb") as out:
            if web:
                fetch_from_web(shown, cast(BinaryIO, out))
            else:
                _fetch(store, name, shown, cast(BinaryIO, out))
        yield Fetched(shown, target, copies)


def fetch_single(address: str) -> Fetched:
    """The one object that an address names. Raises as `fetched`, and UsageProblem where it names several."""
    first, *rest = fetched(address)
    if rest:
        raise UsageProblem(f"{address} names {1 + len(rest)} objects; one is wanted.", "Name it.")
    return first


def _store(address: str) -> tuple[Any, str]:
    """The store of an address, and what it calls the object."""
    scheme = address.partition("://")[0]
    try:
        return cast(tuple[Any, str], fsspec.core.url_to_fs(full_address(address)))
    except ImportError as error:
        raise UsageProblem(
            f"What reads {scheme}:// is not installed: {str(error).rstrip('.')}.",
            "pip install 'upsort[remote]' has http, https and s3; install that of another store as well.",
        ) from None
    except ValueError:
        if scheme in fsspec.available_protocols():
            raise UsageProblem(f"{address} is no address of a store.", "One is s3://bucket/letters.csv.") from None
        raise UsageProblem(
            f"{address} begins with {scheme}://, which is not known here.",
            "Known are files, folders, databases, https:// and the stores that fsspec reads.",
        ) from None


def _fetch(store: Any, name: str, shown: str, out: BinaryIO) -> None:
    """Copy an object whole, or raise DataProblem."""
    with _StoreProblems(shown):
        before = _object_info(store, name)
    size, digest, done, tries = before.get("size"), hashlib.md5(usedforsecurity=False), 0, 0
    while True:
        try:
            for part in _parts(store, name, done, size):
                out.write(part)
                digest.update(part)
                done += len(part)
                tries = 0
            if size is None or done >= size:
                break
            raise EOFError(f"it ended after {done:,} of {size:,} bytes")
        except Exception as error:  # whatever the libraries below raise for a connection that drops
            tries += 1
            if tries >= _TRIES or isinstance(error, FileNotFoundError | PermissionError):
                raise DataProblem(
                    f"{shown} broke off after {done:,} bytes: {message_about(error, shown)}.",
                    "Try again; nothing of it was used.",
                ) from error
            if size is None:  # such an object cannot be resumed
                out.seek(0)
                out.truncate()
                digest, done = hashlib.md5(usedforsecurity=False), 0
            time.sleep(_WAIT * 2**tries)
    with _StoreProblems(shown):
        after = _object_info(store, name)
    changed = [attribute for attribute in _CHANGING if before.get(attribute) != after.get(attribute)]
    if changed or (size is not None and done != size):
        raise DataProblem(f"{shown} is not the same at the end as at the beginning: it changed while it was read.", "Try again.")
    expected = _digest_in(before)
    if expected is not None and expected != digest.digest():
        raise DataProblem(
            f"{shown} came with another content than its store says: the MD5 digests differ.",
            "Try again; nothing of it was used.",
        )


def _parts(store: Any, name: str, done: int, size: int | None) -> Iterator[bytes]:
    """The rest of an object, part by part."""
    if size is None:
        with store.open(name, "rb") as stream:
            while part := stream.read(_PART):
                yield part
        return
    while done < size:
        part = store.cat_file(name, start=done, end=min(done + _PART, size))
        if len(part) > size - done or not part:
            raise EOFError(f"{len(part):,} bytes came where at most {size - done:,} were asked for")
        done += len(part)
        yield part


def _object_info(store: Any, name: str) -> Mapping[str, Any]:
    """What a store says of an object now."""
    store.invalidate_cache()
    return cast(Mapping[str, Any], store.info(name))


def _digest_in(info: Mapping[str, Any]) -> bytes | None:
    """The MD5 digest that a store says, where it does."""
    for key in ("md5Hash", "Content-MD5", "content_md5"):
        value = info.get(key)
        if isinstance(value, bytes | bytearray):
            return bytes(value)
        if isinstance(value, str) and value:
            return digest_in(value)
    return None


class _StoreProblems:
    """A block of requests to a store: what it refuses becomes a DataProblem."""

    def __init__(self, shown: str) -> None:
        self.shown = shown

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        if error is None or not isinstance(error, Exception) or isinstance(error, DataProblem | UsageProblem):
            return
        status = getattr(error.__cause__, "status", None)  # of the web, where all that fails is "not found"
        if isinstance(error, FileNotFoundError) and status not in (401, 403):
            raise DataProblem(f"There is no {self.shown}.", "Check the address.") from None
        if status in (401, 403) or isinstance(error, PermissionError) or "credential" in str(error).lower():
            message = f"status {status}" if status is not None else message_about(error, self.shown)
            raise DataProblem(
                f"{self.shown} is denied: {message}.", "Check the credentials, in the environment or the store's own files."
            ) from None
        raise DataProblem(
            f"{self.shown} cannot be read: {message_about(error, self.shown)}.", "Check the address and the connection."
        ) from None


def exists(address: str) -> bool:
    """Whether an object is there. address: with its secrets hidden. Raises as `fetched`."""
    store, root = _store(address)
    with _StoreProblems(address):
        return bool(store.exists(root))


class Outbox:
    """Folders here that represent those of stores; what is written into them is sent at the end."""

    def __init__(self) -> None:
        self.copies = LocalCopies()
        self.folders: dict[str, Path] = {}

    @property
    def shown_paths(self) -> dict[str, str]:
        """The folders here, and what they represent."""
        return {str(folder): without_secrets(address) for address, folder in self.folders.items()}

    def place(self, address: str) -> Path:
        """Where to write what is to be sent to an address. Raises UsageProblem for one that nothing can be sent to."""
        if address.startswith(("http://", "https://")):
            raise UsageProblem(f"Nothing can be sent to {address}.", "Write it here, or into a store such as s3://.")
        folder, _, name = full_address(address).rpartition("/")
        if not name or folder.endswith("/"):
            raise UsageProblem(f"{address} names no object.", "For example: s3://desk/scored.csv")
        _store(address)
        if folder not in self.folders:
            self.folders[folder] = self.copies.named("outbox")
            self.folders[folder].mkdir()
        return self.folders[folder] / name

    def send(self) -> None:
        """Send all files. Raises DataProblem for a store that refuses one."""
        for address, folder in self.folders.items():
            store, root = _store(address)
            for path in sorted(path for path in folder.rglob("*") if path.is_file()):
                name = path.relative_to(folder).as_posix()
                with _StoreProblems(f"{without_secrets(address)}/{name}"):
                    store.put_file(str(path), f"{root}/{name}")
