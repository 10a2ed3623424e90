"""What options are where nobody typed them: by the environment, the site, and the user's file.

An option that is typed counts first, then the variable of its name (`OVEK_AUDIT_FAIL_ON`), then
`[defaults]` of the site's `fleet.toml`, then the user's `defaults.toml`. A site may come from
somebody else: it says how results look, and not where files are written or what may be deleted.
"""

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from ovek.files.defaults import Defaults, site_defaults, user_defaults, user_file
from ovek.files.errors import InputError
from ovek.model.usage import near_to

__all__ = [
    "COMMON", "Default", "Defaults", "check_top", "defaults_in", "site_defaults", "user_defaults",
    "user_file", "variables",
]  # fmt: skip

# Options of all commands that have them, which stand at the top of a file.
COMMON = ("color", "log", "quiet", "site")
OF_SITE = ("color", "fail-on", "format", "group-by", "quiet", "rows", "verbose")


class Default(NamedTuple):
    """What an option is by a file: the value, the file, and the key in it.

    `of_site` is whether that is a site's, `common` whether it is said of all commands.
    """

    value: Any
    file: Path
    key: str
    of_site: bool
    common: bool


def variables(words: Sequence[str], name: str) -> list[str]:
    """The variables that an option of a command is taken from, the one of that command first.

    >>> variables(["catalog", "import"], "publisher"), variables(["audit"], "site")
    (['OVEK_CATALOG_IMPORT_PUBLISHER'], ['OVEK_AUDIT_SITE', 'OVEK_SITE'])
    """
    known = ["_".join(("OVEK", *words, name))]
    known += [f"OVEK_{name}"] if name in COMMON else []
    return [variable.upper().replace("-", "_") for variable in known]


def check_top(file: Defaults, commands: Collection[str]) -> None:
    """Raise InputError where a file has something at its top that is no option and no command."""
    for name in file.values:
        if name in commands or name in COMMON or (name == "format" and not file.prefix):
            continue
        text = f"{name!r} is neither a command nor an option of all commands"
        raise _wrong(file, file.key(name), text, name, [*commands, *COMMON])


def defaults_in(
    file: Defaults, words: Sequence[str], options: Collection[str]
) -> Iterator[tuple[str, Default]]:
    """Go through what a file says of a command's options, what is said of all commands first.

    Raises InputError for what no option of it is, or may not be.
    """
    of_site = bool(file.prefix)
    for name in COMMON:
        if name in file.values and name in options:
            key = file.key(name)
            yield name, Default(file.values[name], file.file, key, of_site, common=True)
    for name, value in _table(file, words).items():
        key = file.key(*words, name)
        if isinstance(value, dict):
            continue  # of a command below
        if name not in options:
            known = [option for option in options if not of_site or option in OF_SITE]
            text = f"ovek {' '.join(words)} has no option --{name}"
            raise _wrong(file, key, text, name, known)
        if of_site and name not in OF_SITE:
            do = f"Set it in your own defaults file, or as {variables(words, name)[0]}"
            raise InputError(file.file, f"a site may not set --{name}", do, key=key)
        yield name, Default(value, file.file, key, of_site, common=False)


def _table(file: Defaults, words: Sequence[str]) -> dict[str, Any]:
    """The table of a command, through those of the groups above it."""
    table: Any = file.values
    for word in words:
        table = table.get(word, {}) if isinstance(table, dict) else {}
    if not isinstance(table, dict):
        key = file.key(*words)
        raise InputError(file.file, f"{table!r} is not a table", f"Write [{key}]", key=key)
    return table


def _wrong(file: Defaults, key: str, text: str, name: str, known: list[str]) -> InputError:
    meant = near_to(name, known).removeprefix("; ")
    do = f"{meant[:1].upper()}{meant[1:]}" if meant else f"Use: {', '.join(sorted(known))}"
    return InputError(file.file, text, do, key=key)
