"""Objects of the web, by the standard library's client: one request for the whole, and after a drop one for the rest.

What comes is compared with what was asked for and what came before: the range, the whole size, the mark of the version (ETag),
and the MD5 digest where the server says one. Secrets in an address go to its own host alone, never to where it redirects."""

import base64
import hashlib
import re
import socket
import ssl
import time
from collections.abc import Mapping
from http.client import HTTPException, HTTPMessage, HTTPResponse
from typing import IO, Any, BinaryIO
from urllib import request
from urllib.error import HTTPError, URLError
from urllib.parse import SplitResult, quote, unquote, urlsplit

from upsort.core.errors import DataProblem
from upsort.io.notices import add_notice_once
from upsort.io.sources.addresses import full_address, message_about, without_secrets

IDLE = 30.0
"""Seconds without a byte after which a connection counts as dropped."""

OVERALL = 3600.0
"""Seconds that one object may take in all."""

_PART = 1 << 20  # bytes read at once
_TRIES = 5  # without a new byte between them
_WAIT = 0.2  # seconds before the second; each time twice as long
_BUSY = frozenset({429, 502, 503, 504})  # status codes after which it is tried again
_GONE, _DENIED = frozenset({404, 410}), frozenset({401, 403})
_SAFE = "%/:@!$&'()*+,;=?-._~"  # signs of a path or a query that stand as they are (RFC 3986)
_SCHEMES = ("http", "https")
_RANGE = re.compile(r"bytes (\d+)-(\d+)/(\d+|\*)")
_AGAIN = "Try again; nothing of it was used."


def fetch_from_web(shown: str, out: BinaryIO) -> None:
    """Write an object whole. shown: its address with secrets hidden. Raises DataProblem that says what went wrong."""
    opener = request.build_opener(_Redirects(shown))
    digest, done, total, version, said = hashlib.md5(usedforsecurity=False), 0, None, None, None
    ends, tries, furthest = time.monotonic() + OVERALL, 0, 0
    while True:
        try:
            with opener.open(_asked(shown, done, version), timeout=IDLE) as response:
                begin, whole = _place(response, shown, done)
                if begin == 0 and done:  # the server gives the whole, again
                    out.seek(0)
                    out.truncate()
                    digest, done, total, version = hashlib.md5(usedforsecurity=False), 0, None, None
                if (total or whole) != (whole or total) or (version and _version(response.headers) not in (None, version)):
                    raise DataProblem(f"{shown} changed while it was read.", _AGAIN)
                total, version = whole or total, _version(response.headers) or version
                said = said if begin else response.headers.get("Content-MD5")
                while part := response.read1(_PART):
                    out.write(part)
                    digest.update(part)
                    done += len(part)
                    if done > furthest:  # else a server that gives the whole each time, and drops, would be asked for ever
                        furthest, tries = done, 0
                    if time.monotonic() > ends:
                        raise DataProblem(f"{shown} did not arrive within {OVERALL:,.0f} seconds.", "Fetch it by other means.")
            if total is None or done == total:
                break
            raise EOFError(f"it ended after {done:,} of {total:,} bytes")
        except HTTPError as error:
            error.close()
            tries += 1
            if error.code not in _BUSY or tries >= _TRIES:
                raise _refused(shown, error) from None
        except (OSError, EOFError, HTTPException) as error:
            tries += 1
            if (not done and not isinstance(error, EOFError | HTTPException)) or tries >= _TRIES:
                raise _unreachable(shown, error, done) from None
        time.sleep(_WAIT * 2**tries)
    if said is not None and (expected := digest_in(said)) is not None and expected != digest.digest():
        raise DataProblem(f"{shown} came with another content than its server says: the MD5 digests differ.", _AGAIN)


class WebObject:
    """Gives an object by ranges, as the stores of fsspec do."""

    def __init__(self) -> None:
        self.said: dict[str, Any] = {}  # with the last range

    def invalidate_cache(self) -> None:
        """Nothing is kept for longer than until it is asked for."""

    def info(self, name: str) -> dict[str, Any]:
        """Its size and the mark of its version. name: its address, with secrets hidden."""
        if not self.said:
            self.cat_file(name, 0, 1)
        said, self.said = self.said, {}
        return said

    def cat_file(self, name: str, start: int, end: int) -> bytes:
        """Some bytes. Raises EOFError where the server gives no ranges, or no mark."""
        asked = _asked(name, 0, None)
        asked.add_header("Range", f"bytes={start}-{end - 1}")
        with request.build_opener(_Redirects(name)).open(asked, timeout=IDLE) as response:
            match = _RANGE.fullmatch(response.headers.get("Content-Range", "")) if response.status == 206 else None
            version = _version(response.headers)
            if match is None or int(match[1]) != start or match[3] == "*" or version is None:
                raise EOFError("the server does not give the range that it was asked for")
            self.said = {"size": int(match[3]), "ETag": version}
            return bytes(response.read(end - start))


def _asked(shown: str, done: int, version: str | None) -> request.Request:
    """A request for what is not here yet. Raises DataProblem for an address that names nothing of the web."""
    try:
        parts = urlsplit(full_address(shown))
        host, _ = parts.netloc.rpartition("@")[2].encode("idna").decode("ascii"), parts.port  # which is checked
    except ValueError:
        raise DataProblem(f"{shown} is no address of the web.", "One is https://host/letters.csv.") from None
    headers = {"Accept-Encoding": "identity", "User-Agent": "upsort"}
    if parts.username is not None:
        secret = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
        headers["Authorization"] = f"Basic {base64.b64encode(secret.encode()).decode()}"
    if done:
        headers["Range"] = f"bytes={done}-"
        headers |= {"If-Range": version} if version and version.startswith('"') else {}
    path, query = (quote(part, safe=_SAFE) for part in (parts.path, parts.query))
    return request.Request(parts._replace(netloc=host, path=path, query=query, fragment="").geturl(), headers=headers)


def digest_in(text: str) -> bytes | None:
    """The MD5 digest that a server says; None for what is none."""
    try:
        digest = base64.b64decode(text, validate=True)
    except ValueError:
        return None
    return digest if len(digest) == hashlib.md5(usedforsecurity=False).digest_size else None


def _place(response: HTTPResponse, shown: str, done: int) -> tuple[int, int | None]:
    """Where what comes begins, and how large the whole is, where that is said. Raises DataProblem for another range than the one
    asked for."""
    length = response.headers.get("Content-Length")
    if response.status != 206:
        return 0, int(length) if length and length.isdecimal() else None
    match = _RANGE.fullmatch(response.headers.get("Content-Range", ""))
    begin, end, whole = (match[1], match[2], match[3]) if match is not None else ("", "", "")
    right = match is not None and int(begin) == done and (whole == "*" or int(end) == int(whole) - 1)
    if not right or (length and length.isdecimal() and int(length) != int(end) - int(begin) + 1):
        came = f"bytes {begin} to {end} of {whole}" if match is not None else "no range"
        raise DataProblem(f"{shown}: the bytes from {done:,} on were asked for, and {came} came.", _AGAIN)
    return done, None if whole == "*" else int(whole)


def _version(headers: Mapping[str, str]) -> str | None:
    return headers.get("ETag") or headers.get("Last-Modified")


class _Redirects(request.HTTPRedirectHandler):
    """Follows redirections to the web, and reports those to another host or port."""

    def __init__(self, shown: str) -> None:
        self.shown = shown

    def redirect_request(
        self, req: request.Request, fp: IO[bytes], code: int, msg: str, headers: HTTPMessage, newurl: str
    ) -> request.Request | None:
        new = super().redirect_request(req, fp, code, msg, headers, newurl)
        if new is None:
            return None
        if urlsplit(newurl).scheme not in _SCHEMES:
            raise HTTPError(newurl, code, msg, headers, fp)
        if _host(urlsplit(req.full_url)) != _host(urlsplit(newurl)):
            new.remove_header("Authorization")
            add_notice_once(f"{self.shown} was redirected to {without_secrets(newurl)}.")
        return new


def _host(parts: SplitResult) -> tuple[str, int | None]:
    return parts.hostname or "", parts.port or {"http": 80, "https": 443}.get(parts.scheme)


def _refused(shown: str, error: HTTPError) -> DataProblem:
    """What a server's status means."""
    if error.code in _GONE:
        return DataProblem(f"There is no {shown}.", "Check the address.")
    if error.code in _DENIED:
        return DataProblem(f"{shown} is denied: status {error.code}.", "Check the credentials in the address.")
    if urlsplit(error.url).scheme not in _SCHEMES:
        return DataProblem(
            f"{shown} redirects to {without_secrets(error.url)[:80]}, which is not followed.", "Check the address in a browser."
        )
    if 300 <= error.code < 400:
        return DataProblem(f"{shown} redirects without end.", "Check the address in a browser.")
    return DataProblem(f"{shown} answers with status {error.code} ({error.reason}).", "Try again later, or check the address.")


def _unreachable(shown: str, error: Any, done: int) -> DataProblem:
    """What a connection that failed means."""
    reason = error.reason if isinstance(error, URLError) else error
    host = urlsplit(shown).netloc.rpartition("@")[2]
    if done:
        return DataProblem(f"{shown} broke off after {done:,} bytes: {_in_words(reason, shown)}.", _AGAIN)
    if isinstance(reason, ConnectionRefusedError):
        return DataProblem(f"{host} refuses the connection.", "Check the host and the port.")
    if isinstance(reason, socket.gaierror):
        return DataProblem(f"There is no host {host}.", "Check the address and the connection.")
    if isinstance(reason, ssl.SSLError):
        return DataProblem(
            f"{host} cannot be trusted: {_in_words(reason, shown)}.", "Check the address and the clock of this machine."
        )
    return DataProblem(f"{shown} cannot be read: {_in_words(reason, shown)}.", "Check the address and the connection.")


def _in_words(reason: object, shown: str) -> str:
    if isinstance(reason, TimeoutError):
        return f"nothing came for {IDLE:.0f} seconds"
    return message_about(getattr(reason, "verify_message", None) or getattr(reason, "strerror", None) or reason, shown)
