"""What a shell is told when a word is to be completed: devices, rules, images, sheets, baselines.

Nothing is parsed that need not be: names of devices come from the index of the newest lines and
from a glance at the fleet's files, so that the answer is there at once for very many devices. What
cannot be read completes to nothing; the command itself says what is wrong.
"""

import json
import os
import re
from collections.abc import Iterable
from contextlib import suppress
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import click

from ovek.files.errors import InputError
from ovek.files.regular import bytes_of
from ovek.model.typed import is_plain

KEYS = ("site", "role", "sheet", "model", "version", "answer")  # of --where
OUTLINE = "outline.json"
_MOST = 500
_NAME = re.compile(rb"""^\s*name\s*=\s*["']([^"'\\]{1,255})["']""", re.MULTILINE)
_LISTS = re.compile(rb"^\s*lists\s*=\s*\[([^\]]*)\]", re.MULTILINE)
_QUOTED = re.compile(rb"""["']([^"'\\]+)["']""")
_DEVICE = re.compile(rb"^\s*\[\[\s*device\s*\]\]", re.MULTILINE)


def _site(ctx: click.Context) -> Path:
    return ctx.params.get("site_folder") or Path()


def _beginning(words: Iterable[str], incomplete: str) -> list[str]:
    """The words that begin so; of a glob, those that it means.

    What a shell would take for more than a word is left out: it puts it into a line as it stands.
    """
    whole = any(mark in incomplete for mark in "*?[")
    near = (word for word in words if whole or word.startswith(incomplete))
    safe = {word for word in near if is_plain(word)}
    if whole:
        found = sorted(word for word in safe if fnmatchcase(word, f"{incomplete}*"))
        return [incomplete, *found[:_MOST]] if found else []
    return sorted(safe)[:_MOST]


def devices(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of devices of the site; a glob that means some is offered as it is, too."""
    return _beginning(device_names(_site(ctx)), incomplete)


def shelves(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of the shelves of the site; folders are what the shell itself completes."""
    from ovek.files.fleet import read_fleet

    try:
        names = [shelf.name for shelf in read_fleet(_site(ctx)).shelf]
    except InputError:
        return []
    return _beginning(names, incomplete)


def device_names(folder: Path) -> set[str]:
    """The names of the devices of a site, as far as they can be seen at once."""
    names = set[str]()
    with suppress(OSError, InputError, ValueError, LookupError, TypeError, RecursionError):
        index = json.loads(bytes_of(folder / "snapshots" / ".newest.json"))
        names |= set(index["lines"])
    with suppress(OSError, InputError):
        fleet = bytes_of(folder / "fleet.toml")
        first = _DEVICE.search(fleet)
        inside = fleet[first.start() :] if first is not None else b""
        names |= {name.decode("utf-8", "replace") for name in _NAME.findall(inside)}
        lists = _LISTS.search(fleet)
        for quoted in _QUOTED.findall(lists[1]) if lists else ():
            names |= _listed(folder / quoted.decode("utf-8", "replace"))
    return names


def _listed(file: Path) -> set[str]:
    """The names in a list of devices: its column of that title, or the first."""
    import csv

    with suppress(OSError, InputError, UnicodeDecodeError, csv.Error):
        rows = csv.reader(bytes_of(file).decode().splitlines())
        titles = [title.strip().lower() for title in next(rows, [])]
        at = titles.index("name") if "name" in titles else 0
        return {row[at] for row in rows if len(row) > at}
    return set()


def read_outline() -> Any:
    """The outline of the commands that ships with the package, made by scripts/write_outline.py."""
    return json.loads(Path(__file__).with_name(OUTLINE).read_text(encoding="utf-8"))


def rules(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Slugs of rules."""
    return _beginning(read_outline()["rules"], incomplete)


def sheets(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of sheets: those of the site, and those that ship with Ovek."""
    from ovek.files.sheets import sheet_names

    with suppress(OSError):
        return _beginning(sheet_names(_site(ctx)), incomplete)
    return []


def snapshots(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of baselines and of snapshots."""
    folders = [_site(ctx) / "baselines", _site(ctx) / "snapshots"]
    with suppress(OSError):
        return _beginning(
            [file.stem for each in folders for file in each.glob("*.jsonl")], incomplete
        )
    return []


def images(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """File names and versions of the releases in the site's catalog."""
    from ovek.files.errors import InputError, ManyInputError
    from ovek.files.site import Site

    with suppress(InputError, ManyInputError, OSError):
        found = [one.release for one in Site(_site(ctx)).releases]
        words = [word for one in found for word in (one.file, one.version) if word]
        return _beginning(["target", *words], incomplete)
    return []


def aims(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What a runbook may be for."""
    words = [
        word for word in ("start", "target", "fallback", "tidy") if word.startswith(incomplete)
    ]
    return words + [each for each in images(ctx, param, incomplete) if each not in words]


def places(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Places on the devices that were named so far, as far as they are known."""
    from ovek.files.errors import InputError, ManyInputError
    from ovek.files.site import Site

    # The option that is completed lacks its value yet: then nothing else was taken in either.
    typed = os.environ.get("COMP_WORDS", "").split()
    found = list[str]()
    with suppress(InputError, ManyInputError, OSError):
        state = Site(_site(ctx)).state()
        for name in ctx.params.get("device") or (word for word in typed if word in state.lines):
            device = state.read(name)
            for member in (device.members if device is not None else None) or ():
                for volume in member.volumes or ():
                    found += [f"{volume.name}:{file.path}" for file in volume.files or ()]
                found += [f"bank:{bank.name}" for bank in member.banks or ()]
    return _beginning(found, incomplete)


def wheres(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Keys of `--where`, and after `=` their values, as far as the fleet's files tell them."""
    key, equals, begun = incomplete.partition("=")
    if not equals:
        return _beginning([f"{each}=" for each in KEYS], incomplete)
    key, front = key.removesuffix("!"), f"{key}="
    if key == "answer":
        from ovek.model.answer import ANSWERS_WORST_FIRST

        return [front + each for each in _beginning(ANSWERS_WORST_FIRST, begun)]
    # A value may be a glob: what is no plain letter is any, so that no shell takes it for more.
    plain = {
        "".join(char if is_plain(f"a{char}") else "?" for char in value): value
        for value in _told(_site(ctx), key)
    }
    found = [told for told, value in plain.items() if value.startswith(begun.replace("?", " "))]
    return [front + told for told in sorted(found)][:_MOST]


def _told(folder: Path, key: str) -> set[str]:
    """What the devices of the fleet's file say under a key."""
    found = set[str]()
    with suppress(OSError, InputError):
        told = re.compile(rb"^\s*" + key.encode() + rb"""\s*=\s*["']([^"'\\]{1,255})["']""", re.M)
        for table in _DEVICE.split(bytes_of(folder / "fleet.toml"))[1:]:
            match = told.search(table)
            found |= {match[1].decode("utf-8", "replace")} if match else set()
    return found
