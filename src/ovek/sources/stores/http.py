"""A folder on a web server: an index page, or a list that names the files.

Only what lies below the shelf's own address is followed; a redirect elsewhere is not.
"""

import re
import ssl
from collections.abc import Iterator, Sequence
from datetime import UTC
from email.utils import parsedate_to_datetime
from html import unescape
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urljoin, urlsplit

from ovek.files.importers.digestlist import name_in
from ovek.model.digest import Algorithm, Digests
from ovek.model.fleet import Shelf
from ovek.model.pattern import compiled
from ovek.sources.clean import plain
from ovek.sources.problem import ReadProblem
from ovek.sources.stores.interface import Access, Lying, is_safe

_MOST_PAGE = 8 * 2**20
_MOST_PAGES = 500
_MOST_FILES = 20_000
_DEEPEST = 8
_PIECE = 2**18


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


class Http:
    """One client for all files."""

    resumes = True

    def __init__(self, shelf: Shelf, site: Path, access: Access) -> None:
        try:
            import httpx
        except ImportError:
            do = "pip install 'ovek[shelves]'"
            raise ReadProblem(f"reading {shelf.at}", "httpx is not installed", do) from None
        self._httpx = httpx
        parts = urlsplit(shelf.at)
        self._at = shelf.at
        verify: ssl.SSLContext | bool = True
        if shelf.ca is not None:
            try:
                verify = ssl.create_default_context(cafile=str(site / shelf.ca))
            except (OSError, ssl.SSLError) as error:
                met = f"{shelf.ca} is no certificate ({error})"
                raise ReadProblem("trusting the server", met, "Mend ca in fleet.toml") from None
        auth = None
        # Whom devices are logged in to as is nobody to a web server that no one named a user for.
        user = shelf.user or (unquote(parts.username) if parts.username else None)
        if user is not None:
            if parts.scheme != "https":
                met = "a password would go over http in plain"
                raise ReadProblem(f"logging in to {shelf.at}", met, "Use https, or no user")
            secret = access.secrets.password(user, parts.hostname or "")
            if secret is None:
                do = f"Put it into OVEK_PASSWORD, or the keyring as {user}@{parts.hostname}"
                raise ReadProblem(f"logging in to {shelf.at}", "its password is not told", do)
            auth = httpx.BasicAuth(user, secret)
        limits = access.limits
        self._client = httpx.Client(
            auth=auth,
            verify=verify,
            timeout=httpx.Timeout(limits.answer, connect=limits.connect),
            follow_redirects=False,
            trust_env=False,
            headers={"Accept-Encoding": "identity"},
        )

    def _problem(self, doing: str, error: Exception) -> ReadProblem:
        if "CERTIFICATE" in str(error).upper():
            do = "Do not go on; put its own authority as ca into fleet.toml if it has one"
            return ReadProblem(doing, f"its certificate is not trusted ({error})", do)
        met = re.sub(r"^\[Errno -?\d+\] ", "", plain(str(error))) or type(error).__name__
        return ReadProblem(doing, met, "See if it is up and the address is right", passing=True)

    def _page(self, address: str) -> tuple[str, str, str]:
        """A page: where it is after redirects, its type and its text. Raises ReadProblem."""
        doing = f"reading {address}"
        for _ in range(5):
            try:
                with self._client.stream("GET", address) as answer:
                    if answer.is_redirect:
                        address = self._led(address, answer)
                        continue
                    if answer.status_code != 200:
                        met = f"the server says {answer.status_code} {answer.reason_phrase}"
                        raise ReadProblem(doing, plain(met), "Mend at in fleet.toml, or user")
                    data = b""
                    for piece in answer.iter_bytes():
                        data += piece
                        if len(data) > _MOST_PAGE:
                            met = f"it is longer than {_MOST_PAGE} bytes, no index"
                            raise ReadProblem(doing, met, "Name an index page or a list")
                    kind = answer.headers.get("content-type", "")
                    return address, kind, data.decode("utf-8", "replace")
            except (self._httpx.HTTPError, OSError) as error:
                raise self._problem(doing, error) from None
        raise ReadProblem(doing, "it leads from one address to the next", "Mend at in fleet.toml")

    def _led(self, address: str, answer: Any) -> str:
        """Where a redirect leads, which has to be the same server."""
        to = urljoin(address, answer.headers.get("location", ""))
        if urlsplit(to)[:2] != urlsplit(address)[:2]:
            met = f"it leads to another server ({plain(to)[:80]})"
            raise ReadProblem(f"reading {address}", met, "Name that one, if it is meant")
        return str(to)

    def files(self) -> list[Lying]:
        """All files that the index page, and the pages below it, link to; or that a list names."""
        address, kind, text = self._page(self._at)
        if "html" not in kind and not re.match(r"\s*<(?:!doctype|html)", text, re.IGNORECASE):
            told = (name_in(line) for line in text.splitlines())
            names = [name for name in told if name is not None and is_safe(name)]
            base = address.rpartition("/")[0] + "/"
            found = {unquote(urljoin(base, each)[len(base) :]): urljoin(base, each)
                     for each in names if urljoin(base, each).startswith(base)}  # fmt: skip
            if not found:
                met = "it is no index page, and no list that names files"
                raise ReadProblem(f"reading {address}", met, "Name an index page or a list")
            return self._lying(found)
        base = address if address.endswith("/") else address.rpartition("/")[0] + "/"
        return self._lying(self._linked(base, text))

    def _linked(self, base: str, text: str) -> dict[str, str]:
        found: dict[str, str] = {}
        seen, todo = {base}, [(base, text, 0)]
        pages = 1
        while todo:
            here, page, depth = todo.pop()
            for link in links_in(page):
                to = urljoin(here, link)
                if not to.startswith(here) or urlsplit(to).query or urlsplit(to).fragment:
                    continue
                if to.endswith("/"):
                    if to not in seen:
                        if depth >= _DEEPEST or pages >= _MOST_PAGES:
                            met = f"it has over {_MOST_PAGES} pages, or {_DEEPEST} one in another"
                            raise ReadProblem(f"reading {base}", met, "Name a folder inside")
                        seen.add(to)
                        pages += 1
                        todo.append((to, self._page(to)[2], depth + 1))
                else:
                    found.setdefault(unquote(to[len(base) :]), to)
                if len(found) > _MOST_FILES:
                    met = f"it lists over {_MOST_FILES} files"
                    raise ReadProblem(f"reading {base}", met, "Name a folder inside")
        return found

    def _lying(self, found: dict[str, str]) -> list[Lying]:
        return [
            self._one(path, address)
            for path, address in sorted(found.items())
            if is_safe(path) and not path.rpartition("/")[2].startswith(".")
        ]

    def _one(self, path: str, address: str) -> Lying:
        """What the server tells of a file without sending it."""
        try:
            answer = self._client.head(address)
        except (self._httpx.HTTPError, OSError):
            return Lying(path=path, at=address)
        if answer.status_code != 200:
            return Lying(path=path, at=address)
        told = answer.headers
        length, modified = told.get("content-length", ""), None
        try:
            modified = parsedate_to_datetime(told.get("last-modified", "")).astimezone(UTC)
        except (ValueError, TypeError, OverflowError):
            modified = None
        size = int(length) if length.isascii() and length.isdigit() and len(length) < 19 else None
        return Lying(
            path=path, at=address, size=size, modified=modified, sign=told.get("etag") or None
        )

    def pieces(self, file: Lying, start: int) -> Iterator[bytes]:
        """The bytes from `start` on (RFC 9110, 14.2); from the first where it sends them all."""
        headers = {"Range": f"bytes={start}-"} if start else {}
        if start and file.sign is not None and not file.sign.startswith("W/"):
            headers["If-Range"] = file.sign
        try:
            with self._client.stream("GET", file.at, headers=headers) as answer:
                if answer.status_code == 416:
                    return
                if answer.status_code not in (200, 206):
                    raise LookupError(f"the server says {answer.status_code}")
                skip = start if answer.status_code == 200 else 0
                for piece in answer.iter_bytes(_PIECE):
                    if skip >= len(piece):
                        skip -= len(piece)
                        continue
                    yield piece[skip:]
                    skip = 0
        except self._httpx.TimeoutException:
            raise TimeoutError("no answer in time") from None
        except (self._httpx.HTTPError, OSError) as error:
            raise ConnectionError(plain(str(error)) or type(error).__name__) from None

    def word(self, file: Lying, algorithms: Sequence[Algorithm]) -> Digests | None:
        """A web server works out no digests."""
        return None

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()


def opened(shelf: Shelf, site: Path, access: Access) -> Http:
    """A folder of a web server."""
    return Http(shelf, site, access)
