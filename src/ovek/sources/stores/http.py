"""A folder on a web server: an index page, or a list that names the files.

Only what lies below the shelf's own address is followed; a redirect elsewhere is not. Every wait
has an end, and so has the look as a whole. Bytes are taken as they come: who packs them, unasked,
is not read.
"""

import asyncio
import re
import ssl
from collections.abc import AsyncIterator, Awaitable, Iterator, Sequence
from contextlib import asynccontextmanager, suppress
from datetime import UTC
from email.utils import parsedate_to_datetime
from html import unescape
from http import HTTPStatus
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote, urljoin, urlsplit

from ovek.files.importers.digestlist import name_in
from ovek.model.digest import Algorithm, Digests
from ovek.model.fleet import Shelf, without_user
from ovek.model.pattern import compiled
from ovek.sources.away import hush
from ovek.sources.clean import plain
from ovek.sources.problem import ReadProblem
from ovek.sources.stores.interface import LONGEST_LOOK, Lying, ShelfAccess, is_safe

_MOST_PAGE = 8 * 2**20
_MOST_PAGES = 500
_MOST_FILES = 20_000
_DEEPEST = 8
_PIECE = 2**16  # bytes that come within the time for one answer, or it is none
T = TypeVar("T")


# A link of a page, in linear time whatever the page is made of (HTML Living Standard, 13.1.2.3).
_LINK = (
    r"(?i)<a\s[^<>]*?\bhref\s*=\s*"
    r"""(?:"(?P<double>[^"<>]*)"|'(?P<single>[^'<>]*)'|(?P<bare>[^\s"'<>]+))"""
)


def links_in(page: str) -> Iterator[str]:
    """The addresses that a page links to, as they stand.

    >>> list(links_in('<A class=x HREF="a&amp;b.img">a</A> <a href=c.img>'))
    ['a&b.img', 'c.img']
    """
    for found in compiled(_LINK).finditer(page):
        told = found["double"] or found["single"] or found["bare"]
        if told:
            yield unescape(told)


def _joined(base: str, link: str) -> str | None:
    """Where a link of a page leads; None where that is no address."""
    try:
        to = urljoin(base, link)
        return to if urlsplit(to).netloc else None
    except ValueError:
        return None


def _told(code: int) -> str:
    """A status with the words of RFC 9110: those of the server may repeat what it was told."""
    with suppress(ValueError):
        return f"{code} {HTTPStatus(code).phrase}"
    return str(code)


class Http:
    """One client for all files."""

    resumes = True

    def __init__(self, shelf: Shelf, site: Path, access: ShelfAccess) -> None:
        try:
            import httpx
        except ImportError:
            do = "pip install 'ovek[shelves]'"
            raise ReadProblem(f"reading {shelf.shown}", "httpx is not installed", do) from None
        self._httpx = httpx
        parts = urlsplit(shelf.at)
        self._at = without_user(shelf.at)  # who asks is told apart
        verify: ssl.SSLContext | bool = True
        if shelf.ca is not None:
            try:
                verify = ssl.create_default_context(cafile=str(site / shelf.ca))
            except (OSError, ssl.SSLError) as error:
                text = f"{shelf.ca} is not a certificate ({error})"
                raise ReadProblem("trusting the server", text, "Fix `ca` in fleet.toml") from None
        auth = None
        # Whom devices are logged in to as is nobody to a web server that no one named a user for.
        user = shelf.user or (unquote(parts.username) if parts.username else None)
        if user is not None:
            if parts.scheme != "https":
                text = "a password would go over http in plain"
                raise ReadProblem(f"logging in to {shelf.shown}", text, "Use https, or no user")
            secret = access.secrets.password(user, parts.hostname or "")
            if secret is None:
                do = f"Put it into OVEK_PASSWORD, or the keyring as {user}@{parts.hostname}"
                raise ReadProblem(f"logging in to {shelf.shown}", "its password is unknown", do)
            auth = httpx.BasicAuth(user, secret)
        limits = access.limits
        self._limit = limits.answer
        self._runner = asyncio.Runner()
        hush(self._runner.get_loop())
        self._client = httpx.AsyncClient(
            auth=auth,
            verify=verify,
            timeout=httpx.Timeout(limits.answer, connect=limits.connect),
            follow_redirects=False,
            trust_env=False,
            headers={"Accept-Encoding": "identity"},
        )

    def _run(self, work: Awaitable[T], limit: float) -> T:
        """Wait for something, for so many seconds. Raises TimeoutError and what it raises."""
        return self._runner.run(asyncio.wait_for(work, limit))

    @asynccontextmanager
    async def _asked(self, method: str, address: str, **more: Any) -> AsyncIterator[Any]:
        """What a server answers; raises LookupError where it packs it, or the address is none."""
        try:
            async with self._client.stream(method, address, **more) as answer:
                packed = answer.headers.get("content-encoding", "identity").strip().lower()
                if packed not in ("", "identity"):
                    raise LookupError(
                        f"the server compresses it ({plain(packed)[:40]}), which was not asked for"
                    )
                yield answer
        except (self._httpx.InvalidURL, ValueError) as error:
            raise LookupError(f"its address is not valid ({plain(str(error))})") from None

    def _problem(self, doing: str, error: Exception) -> ReadProblem:
        if "CERTIFICATE" in str(error).upper():
            do = "Do not continue; if it has its own certificate authority, set ca in fleet.toml"
            return ReadProblem(doing, f"its certificate is not trusted ({error})", do)
        met = re.sub(r"^\[Errno -?\d+\] ", "", plain(str(error))) or type(error).__name__
        return ReadProblem(
            doing, met, "Check that the server is up and the address is right", passing=True
        )

    async def _page(self, address: str) -> tuple[str, str, str]:
        """A page: where it is after redirects, its type and its text. Raises ReadProblem."""
        doing = f"reading {address}"
        for _ in range(5):
            try:
                async with self._asked("GET", address) as answer:
                    if answer.is_redirect:
                        address = self._led(address, answer)
                        continue
                    if answer.status_code != 200:
                        text = f"the server says {_told(answer.status_code)}"
                        raise ReadProblem(doing, text, "Fix `at` or `user` in fleet.toml")
                    data = bytearray()
                    async for piece in answer.aiter_raw():
                        data += piece
                        if len(data) > _MOST_PAGE:
                            text = f"it is longer than {_MOST_PAGE} bytes, so it is not an index"
                            raise ReadProblem(
                                doing, text, "Use the address of an index page or a list"
                            )
                    kind = answer.headers.get("content-type", "")
                    return address, kind, data.decode("utf-8", "replace")
            except LookupError as error:
                raise ReadProblem(doing, str(error.args[0]), "Check what this server is") from None
            except (self._httpx.HTTPError, OSError) as error:
                raise self._problem(doing, error) from None
        raise ReadProblem(doing, "it redirects too often", "Fix `at` in fleet.toml")

    def _led(self, address: str, answer: Any) -> str:
        """Where a redirect leads, which has to be the same server."""
        to = _joined(address, answer.headers.get("location", "")) or "an invalid address"
        if urlsplit(to)[:2] != urlsplit(address)[:2]:
            text = f"it redirects to another server ({plain(to)[:80]})"
            raise ReadProblem(
                f"reading {address}", text, "Use that address, if it is the intended one"
            )
        return str(to)

    def files(self) -> list[Lying]:
        """All files that the index page, and the pages below it, link to; or that a list names."""
        try:
            return self._run(self._files(), LONGEST_LOOK)
        except TimeoutError:
            text = f"its list of files was not complete after {LONGEST_LOOK:g} s"
            do = "Use a folder inside it, or a list of files"
            raise ReadProblem(f"reading {self._at}", text, do) from None

    async def _files(self) -> list[Lying]:
        address, kind, text = await self._page(self._at)
        if "html" not in kind and not re.match(r"\s*<(?:!doctype|html)", text, re.IGNORECASE):
            told = (name_in(line) for line in text.splitlines())
            names = [name for name in told if name is not None and is_safe(name)]
            base = address.rpartition("/")[0] + "/"
            joined = (_joined(base, each) for each in names)
            found = {unquote(to[len(base) :]): to for to in joined if to and to.startswith(base)}
            if not found:
                met = "it is neither an index page nor a list of files"
                raise ReadProblem(
                    f"reading {address}", met, "Use the address of an index page or a list"
                )
            return await self._lying(found)
        base = address if address.endswith("/") else address.rpartition("/")[0] + "/"
        return await self._lying(await self._linked(base, text))

    async def _linked(self, base: str, text: str) -> dict[str, str]:
        found: dict[str, str] = {}
        seen, todo = {base}, [(base, text, 0)]
        pages = 1
        while todo:
            here, page, depth = todo.pop()
            for link in links_in(page):
                to = _joined(here, link)
                if not to or not to.startswith(here) or urlsplit(to).query or urlsplit(to).fragment:
                    continue
                if to.endswith("/"):
                    if to not in seen:
                        if depth >= _DEEPEST or pages >= _MOST_PAGES:
                            met = f"it has over {_MOST_PAGES} pages, or {_DEEPEST} one in another"
                            raise ReadProblem(f"reading {base}", met, "Use a folder inside it")
                        seen.add(to)
                        pages += 1
                        todo.append((to, (await self._page(to))[2], depth + 1))
                else:
                    found.setdefault(unquote(to[len(base) :]), to)
                if len(found) > _MOST_FILES:
                    met = f"it lists over {_MOST_FILES} files"
                    raise ReadProblem(f"reading {base}", met, "Use a folder inside it")
        return found

    async def _lying(self, found: dict[str, str]) -> list[Lying]:
        return [
            await self._one(path, address)
            for path, address in sorted(found.items())
            if is_safe(path) and not path.rpartition("/")[2].startswith(".")
        ]

    async def _one(self, path: str, address: str) -> Lying:
        """What the server tells of a file without sending it."""
        headers = None
        with suppress(self._httpx.HTTPError, OSError, LookupError, TimeoutError):
            async with asyncio.timeout(self._limit), self._asked("HEAD", address) as answer:
                headers = answer.headers if answer.status_code == 200 else None
        if headers is None:
            return Lying(path=path, at=address)
        length, modified = headers.get("content-length", ""), None
        try:
            modified = parsedate_to_datetime(headers.get("last-modified", "")).astimezone(UTC)
        except (ValueError, TypeError, OverflowError):
            modified = None
        size = int(length) if length.isascii() and length.isdigit() and len(length) < 19 else None
        return Lying(
            path=path, at=address, size=size, modified=modified, sign=headers.get("etag") or None
        )

    def pieces(self, file: Lying, start: int) -> Iterator[bytes]:
        """The bytes from `start` on (RFC 9110, 14.2); from the first where it sends them all."""
        headers = {"Range": f"bytes={start}-"} if start else {}
        if start and file.sign is not None and not file.sign.startswith("W/"):
            headers["If-Range"] = file.sign
        asked = self._asked("GET", file.at, headers=headers)
        try:
            answer = self._run(asked.__aenter__(), self._limit)
            try:
                if answer.status_code == 416:
                    return
                if answer.status_code not in (200, 206):
                    raise LookupError(f"the server says {_told(answer.status_code)}")
                skip = start if answer.status_code == 200 else 0
                pieces = answer.aiter_raw(_PIECE)
                while piece := self._run(anext(pieces, b""), self._limit):
                    if skip >= len(piece):
                        skip -= len(piece)
                        continue
                    yield piece[skip:]
                    skip = 0
            finally:
                with suppress(Exception):  # it is cut off: nobody waits for the rest
                    self._run(asked.__aexit__(None, None, None), self._limit)
        except (self._httpx.TimeoutException, TimeoutError):
            raise TimeoutError("no answer in time") from None
        except (self._httpx.HTTPError, OSError) as error:
            raise ConnectionError(plain(str(error)) or type(error).__name__) from None

    def word(self, file: Lying, algorithms: Sequence[Algorithm]) -> Digests | None:
        """A web server works out no digests."""
        return None

    def close(self) -> None:
        """Let go of the connections."""
        with suppress(Exception):
            self._run(self._client.aclose(), self._limit)
        self._runner.close()


def opened(shelf: Shelf, site: Path, access: ShelfAccess) -> Http:
    """A folder of a web server."""
    return Http(shelf, site, access)
