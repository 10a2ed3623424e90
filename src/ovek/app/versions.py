"""Which versions of what Ovek stands on are here: what a report of a mistake should say."""

import platform
import sqlite3
from collections.abc import Iterator
from importlib import metadata

# What each extra adds, by the names of their packages.
_EXTRAS = {
    "cluster": ("distributed",),
    "figures": ("matplotlib",),
    "keyring": ("keyring",),
    "postgres": ("psycopg",),
    "report": ("jinja2",),
    "shelves": ("httpx",),
    "snmp": ("pysnmp",),
    "yaml": ("pyyaml",),
}
_CORE = (
    "asyncssh", "bcrypt", "click", "defusedxml", "filelock", "google-re2", "msgspec",
    "platformdirs", "rich", "sqlalchemy", "textfsm", "tomlkit",
)  # fmt: skip


def stands_on() -> Iterator[tuple[str, str]]:
    """Go through Python, the system and the packages, each with its version."""
    yield "Python", f"{platform.python_version()} ({platform.python_implementation()})"
    yield "system", f"{platform.system()} {platform.release()} {platform.machine()}"
    yield "SQLite", sqlite3.sqlite_version
    for package in _CORE:
        yield package, _version(package) or "not installed"
    for extra, packages in _EXTRAS.items():
        for package in packages:
            missing = f"not installed (extra: {extra})"
            yield package, _version(package) or missing


def _version(package: str) -> str | None:
    try:
        return metadata.version(package)
    except metadata.PackageNotFoundError:
        return None
