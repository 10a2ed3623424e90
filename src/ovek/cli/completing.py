"""What a shell is told when a word is to be completed: devices, rules, images, sheets, baselines.

What cannot be read completes to nothing; the command itself says what is wrong.
"""

import json
import os
import re
from collections.abc import Iterable
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import click

from ovek.app import completion
from ovek.model.plain_word import is_plain

KEYS = ("site", "role", "sheet", "model", "version", "answer")  # of --where
OUTLINE = "outline.json"
_MOST = 500


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
    beginning = re.split(r"[*?[]", incomplete)[0]
    return _beginning(completion.device_names(_site(ctx), beginning), incomplete)


def shelves(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of the shelves of the site; folders are what the shell itself completes."""
    return _beginning(completion.shelf_names(_site(ctx)), incomplete)


def advisories(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Ids of the security advisories of the site."""
    return _beginning(completion.advisory_ids(_site(ctx)), incomplete)


def read_outline() -> Any:
    """The outline of the commands that ships with the package, made by scripts/write_outline.py."""
    return json.loads(Path(__file__).with_name(OUTLINE).read_text(encoding="utf-8"))


def rules(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Slugs of rules."""
    return _beginning(read_outline()["rules"], incomplete)


def sheets(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of sheets: those of the site, and those that ship with Ovek."""
    return _beginning(completion.sheet_names(_site(ctx)), incomplete)


def snapshots(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of baselines and of snapshots."""
    return _beginning(completion.snapshot_names(_site(ctx)), incomplete)


def images(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """File names and versions of the releases in the site's catalog."""
    return _beginning(completion.image_words(_site(ctx)), incomplete)


def aims(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What a runbook may be for."""
    words = [word for word in ("boot", "target", "fallback", "tidy") if word.startswith(incomplete)]
    return words + [each for each in images(ctx, param, incomplete) if each not in words]


def places(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Places on the devices that were named so far, as far as they are known."""
    # The option that is completed lacks its value yet: then nothing else was taken in either.
    typed = os.environ.get("COMP_WORDS", "").split()
    names = ctx.params.get("device") or typed
    return _beginning(completion.places(_site(ctx), names), incomplete)


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
        for value in completion.values_of(_site(ctx), key)
    }
    found = [told for told, value in plain.items() if value.startswith(begun.replace("?", " "))]
    return [front + told for told in sorted(found)][:_MOST]
