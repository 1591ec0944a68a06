"""Objects of stores, by fsspec (the extra `upsort[remote]`), and of the web.

Large tables of a store are read by ranges, as a file here is read from its disk; all else is fetched into a copy that lives as
long as it is needed. A connection that drops is resumed where it ended. What came is compared with what the store says of it: its
size, whether it was still the same object at the end, and, of a copy, its digest where the store says one."""

import hashlib
import io
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, cast

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.executors import map_threads
from upsort.core.lazy import fsspec, record
from upsort.io.outputs.atomic import LocalCopies
from upsort.io.sources.addresses import full_address, is_compressed, message_about, scheme_of, without_secrets
from upsort.io.sources.web import WebObject, digest_in, fetch_from_web

_PART = 1 << 20  # bytes asked for at once
_FIRST_RANGE, _RANGE = 1 << 18, 1 << 23  # the same, of what is read by ranges: at first, and at most
_LARGE = 1 << 24  # bytes from which an object is read by ranges: a smaller one comes in one go
_AT_ONCE, _CONNECTIONS = 1000, 16  # objects between two of which others can be worked on; asked for side by side
_TRIES = 5  # without a byte between them
_WAIT = 0.2  # seconds before the second; each time twice as long
_SIGNS, _SIGNS_OF_WEB = "*?[", "*["  # of patterns
_CHANGING = ("ETag", "etag", "mtime", "LastModified", "updated", "generation", "VersionId", "content-length")
"""What a store may say of an object that would be another if the object were."""


@record(frozen=True)
class Fetched:
    """name: as it is shown. inside: folders and name below the folder that was named, its own name included; its name alone
    where no folder was. path: of the copy, which has the name of the object. copies: keeps it alive."""

    name: str
    inside: tuple[str, ...]
    path: Path
    copies: LocalCopies


@record(frozen=True, kw_only=True)
class Streamed:
    """An object that is read by ranges. name, inside: as of `Fetched`. opener: opens it, again and again. own: whether only this
    process knows the secrets that open it."""

    name: str
    inside: tuple[str, ...]
    opener: "StoreOpener"
    size: int
    own: bool


def fetched(
    address: str, by_ranges: Callable[[str], bool] = lambda name: False, shared: bool = False
) -> Iterator[Fetched | Streamed]:
    """All objects that an address, a pattern or a folder names, in the order of their names. address: with its secrets hidden.
    by_ranges: whether an object of such a name may be read by ranges. shared: whether other machines read, too; one alone reads a
    copy of an object of the web.

    Raises UsageProblem where nothing installed reads such addresses, DataProblem for what is not there, is denied or cannot be
    read to its end."""
    web = _of_web(address)
    path = full_address(address).partition("://")[2].partition("?")[0].partition("#")[0].partition("/")[2]
    copies = LocalCopies()

    def found(store: Any, name: str, shown: str, inside: tuple[str, ...]) -> Fetched | Streamed:
        divided = not web or (shared and not is_compressed(inside[-1]))
        if divided and by_ranges(inside[-1]) and (large := _streamed(store, name, shown, inside)):
            return large
        target = copies.named(inside[-1])
        with target.open("wb") as out:
            if web:
                fetch_from_web(shown, cast(BinaryIO, out))
            else:
                _fetch(store, name, shown, cast(BinaryIO, out))
        return Fetched(shown, inside, target, copies)

    if web and not any(sign in path for sign in _SIGNS_OF_WEB):
        yield found(WebObject(), address, address, (PurePosixPath(path).name or "index",))
        return
    store, root = store_at(address)
    with store_problems(address):
        names = _names_of(store, root, address, _SIGNS_OF_WEB if web else _SIGNS)
    folder = len(root) if len(names) > 1 or names[0] != root else -1

    def one(name: str) -> Fetched | Streamed:
        shown = without_secrets(store.unstrip_protocol(name)) if name != root else address
        inside = (PurePosixPath(root).name, *PurePosixPath(name[folder:].strip("/")).parts) if name.startswith(f"{root}/") else ()
        inside = inside or (PurePosixPath(name.partition("?")[0]).name or "index",)
        return found(WebObject() if web else store, shown if web else name, shown, inside)

    for begin in range(0, len(names), _AT_ONCE):
        yield from map_threads(one, names[begin : begin + _AT_ONCE], 1 if web else _CONNECTIONS)


def _of_web(address: str) -> bool:
    return scheme_of(address) in ("http", "https")


def _streamed(store: Any, name: str, shown: str, inside: tuple[str, ...]) -> Streamed | None:
    """An object, where it is large enough to be read by ranges; of the web where its server gives them to everybody."""
    own = full_address(shown) != shown
    try:
        with store_problems(shown):
            info = {} if own and _of_web(shown) else _object_info(store, name)
    except DataProblem:
        if _of_web(shown):
            return None  # who fetches it says what is wrong
        raise
    if (info.get("size") or 0) < _LARGE:
        return None
    opener = StoreOpener(shown, {mark: info.get(mark) for mark in (*_CHANGING, "size")})
    return Streamed(name=shown, inside=inside, opener=opener, size=info["size"], own=own)


def _names_of(store: Any, root: str, address: str, signs: str) -> list[str]:
    """The names of objects: those that match, those of a folder, or the one. Raises DataProblem where there are none."""
    if any(sign in root for sign in signs):
        found = sorted(store.glob(root, detail=True).items())
        names = [name for name, info in found if not _hidden_in(name, root) and info.get("type") != "directory"]
        if not names:
            raise DataProblem(f"No object matches {address}.", "Check the pattern; quote it so that the shell leaves it alone.")
        return names
    if _of_web(address) or store.isfile(root) or not store.isdir(root):
        return [root]
    names = [name for name in sorted(store.find(root)) if not name.endswith("/") and not _hidden_in(name, root)]
    if not names:
        raise DataProblem(f"The folder {address} holds no objects to read.", "Name a folder with tables or text files.")
    return names


def _hidden_in(name: str, root: str) -> bool:
    """Whether an object, or a folder that it is in, begins with a full stop, though the address does not say so."""
    return any(part.startswith(".") and part not in root for part in PurePosixPath(name).parts)


def fetch_single(address: str) -> Fetched:
    """The one object that an address names. Raises as `fetched`, and UsageProblem where it names several."""
    first, *rest = fetched(address)
    if rest:
        raise UsageProblem(f"{address} names {1 + len(rest)} objects; one is wanted.", "Name it.")
    assert isinstance(first, Fetched)
    return first


class StoreOpener:
    """Opens an object of a store, to be read by ranges. It may be sent to other processes, which ask the store themselves, by the
    credentials of their own. shown: its address without secrets. marks: what the store said of it first."""

    def __init__(self, shown: str, marks: Mapping[str, Any]) -> None:
        self.shown, self.marks = shown, dict(marks)

    def __call__(self) -> BinaryIO:
        store, name = (WebObject(), self.shown) if _of_web(self.shown) else store_at(self.shown)
        stream = _RangeStream(store, name, self)
        stream.check_unchanged()
        return cast(BinaryIO, io.BufferedReader(stream, _RANGE))


class _RangeStream(io.RawIOBase):
    """The content of an object. Raises DataProblem where it changes, or breaks off again and again."""

    by_ranges = True

    def __init__(self, store: Any, name: str, opener: StoreOpener) -> None:
        self.store, self.name, self.opener = store, name, opener
        self.size, self.at = int(opener.marks["size"]), 0
        self.most = _FIRST_RANGE  # bytes asked for next; more each time, as long as they are the next ones

    def check_unchanged(self) -> None:
        """Whether it is still the object that it was first."""
        with store_problems(self.opener.shown):
            now = _object_info(self.store, self.name)
        if any(now.get(mark) != before for mark, before in self.opener.marks.items()):
            raise DataProblem(f"{self.opener.shown} changed while it was read.", "Try again.")

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self.at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self.at = max({io.SEEK_SET: 0, io.SEEK_CUR: self.at, io.SEEK_END: self.size}[whence] + offset, 0)
        self.most = _FIRST_RANGE
        return self.at

    def part(self, begin: int, end: int) -> bytes:
        """A stretch, by one request, of the object that it was first."""
        part = _range_of(self.store, self.name, self.opener.shown, begin, min(end, self.size))
        self.check_unchanged()
        return part

    def readinto(self, buffer: Any) -> int:
        many = min(len(buffer), self.size - self.at, self.most)
        if many <= 0:
            self.check_unchanged()
            return 0
        self.most *= 2
        buffer[:many] = _range_of(self.store, self.name, self.opener.shown, self.at, self.at + many)
        self.at += many
        return many


def _range_of(store: Any, name: str, shown: str, begin: int, end: int) -> bytes:
    """Some bytes of an object, or DataProblem."""
    for tries in range(1, _TRIES + 1):
        try:
            part = cast(bytes, store.cat_file(name, start=begin, end=end))
            if len(part) == end - begin:
                return part
            raise EOFError(f"{len(part):,} bytes came where {end - begin:,} were asked for")
        except Exception as error:  # whatever the libraries below raise for a connection that drops
            if tries == _TRIES or isinstance(error, FileNotFoundError | PermissionError):
                raise DataProblem(
                    f"{shown} broke off after {begin:,} bytes: {message_about(error, shown)}.", "Try again."
                ) from error
        time.sleep(_WAIT * 2**tries)
    raise AssertionError


def store_at(address: str) -> tuple[Any, str]:
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
    with store_problems(shown):
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
    with store_problems(shown):
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


@contextmanager
def store_problems(shown: str) -> Iterator[None]:
    """Around requests to a store: what it refuses becomes a DataProblem."""
    try:
        yield
    except (DataProblem, UsageProblem):
        raise
    except Exception as error:
        status = getattr(error.__cause__, "status", None)  # of the web, where all that fails is "not found"
        if isinstance(error, FileNotFoundError) and status not in (401, 403):
            raise DataProblem(f"There is no {shown}.", "Check the address.") from None
        if status in (401, 403) or isinstance(error, PermissionError) or "credential" in str(error).lower():
            message = f"status {status}" if status is not None else message_about(error, shown)
            raise DataProblem(
                f"{shown} is denied: {message}.", "Check the credentials, in the environment or the store's own files."
            ) from None
        raise DataProblem(
            f"{shown} cannot be read: {message_about(error, shown)}.", "Check the address and the connection."
        ) from None


def exists(address: str) -> bool:
    """Whether an object is there, or one that matches a pattern. address: with its secrets hidden. Raises as `fetched`."""
    store, root = store_at(address)
    with store_problems(address):
        return bool(store.glob(root) if any(sign in root for sign in _SIGNS) else store.exists(root))


def remove_objects(address: str, chosen: Callable[[str], bool]) -> None:
    """Remove the objects right below a folder whose names are chosen. Raises DataProblem for a store that refuses it."""
    store, root = store_at(address)
    with store_problems(address):
        store.invalidate_cache()
        for name in store.glob(f"{root}/*"):
            if chosen(PurePosixPath(name).name):
                store.rm(name)


represented: dict[Path, str] = {}
"""The folders here that represent those of stores, and their addresses."""


def store_of_folder(folder: Path) -> str:
    """The address of the folder of a store that a folder here represents, where whoever has credentials of their own can send to
    it; empty for any other."""
    address = represented.get(folder, "")
    return address if full_address(address) == address else ""


class StagedRun:
    """Files that several processes send to a folder of a store, and that are no part of it before all are there. address: of the
    folder. name: of the run."""

    def __init__(self, address: str, name: str) -> None:
        self.address, self.name = address, name

    def _staged(self) -> tuple[Any, str, str]:
        store, root = store_at(self.address)
        return store, root, f"{root}/.unfinished-{self.name}"

    def send(self, path: Path) -> None:
        """Send one file. Raises DataProblem for a store that refuses it."""
        store, _, staged = self._staged()
        with store_problems(f"{self.address}/{path.name}"):
            store.put_file(str(path), f"{staged}/{path.name}")

    def commit(self) -> None:
        """Give all that was sent its place. The store moves it; nothing of it comes here."""
        store, root, staged = self._staged()
        with store_problems(self.address):
            store.invalidate_cache()
            for name in sorted(store.find(staged)):
                store.mv(name, f"{root}/{PurePosixPath(name).name}")

    def discard(self) -> None:
        """Remove what was sent."""
        store, _, staged = self._staged()
        with store_problems(self.address), suppress(FileNotFoundError):
            store.invalidate_cache()
            store.rm(staged, recursive=True)
