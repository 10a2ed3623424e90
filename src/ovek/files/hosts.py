"""Lists of devices that a network has already: a CSV table, or hosts in groups (INI or YAML).

1. CSV: columns are matched by meaning, whatever their order; what nobody understands is left out,
   and told. Commas, semicolons and tabs part cells.
2. INI: `[group]`, then a host a line, with `key=value` behind its name.
3. YAML: groups that hold hosts: a list of names, or a mapping from a name to its keys, under
   `hosts` or directly; groups within groups (`children`) are groups, too.

A group tells one thing of its hosts, which its reader says: the role, the site or the sheet. The
innermost group counts. What a host says of itself comes before.
"""

import csv
import io
import shlex
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from ovek.files.decode import read_bytes, text_of
from ovek.files.errors import InputError
from ovek.files.names import shown_name

MEANINGS: dict[str, frozenset[str]] = {
    "name": frozenset({"name", "device", "devicename", "hostname", "node", "system", "label"}),
    "host": frozenset(
        {"host", "address", "ip", "ipaddress", "managementip", "managementaddress", "mgmtip", "dns"}
    ),
    "sheet": frozenset({"sheet", "kind", "type", "devicetype", "platform"}),
    "site": frozenset({"site", "location", "place", "building"}),
    "role": frozenset({"role", "function", "use"}),
    "port": frozenset({"port", "sshport"}),
    "user": frozenset({"user", "username", "login"}),
    "members": frozenset({"members", "units", "stackmembers"}),
}
_MOST = 200_000  # devices in one list
_DEEPEST = 20
_SHOWN = "name, address, sheet, site, role, port, user, members"


class Hosts(Struct, frozen=True):
    """The devices of a list, each as keys of `fleet.toml`, and the columns that were left out."""

    devices: tuple[dict[str, str], ...]
    left_out: tuple[str, ...]


def read_hosts(file: Path, group: str = "role") -> Hosts:
    """Read a list of devices by what it looks like; `group` is what a group tells of its hosts.

    Raises InputError.
    """
    text = text_of(file, read_bytes(file))
    if file.suffix.lower() in (".yaml", ".yml"):
        found = _yaml(file, text, group)
    elif file.suffix.lower() == ".ini" or text.lstrip().startswith("["):
        found = _ini(file, text, group)
    else:
        return _csv(file, text)
    merged: dict[str, dict[str, str]] = {}
    left_out: dict[str, None] = {}
    for line, name, told in found:
        if len(merged) > _MOST:
            raise InputError(file, f"has more than {_MOST} devices", "Split it", line=line)
        merged.setdefault(name, {"name": name})
        for key, value in told.items():
            meaning = _meaning(key)
            if meaning is None:
                left_out.setdefault(key)
            elif meaning != "name":
                merged[name][meaning] = value
    if not merged:
        raise InputError(file, "names no device", "Give it a group with named hosts")
    return Hosts(tuple(merged.values()), tuple(left_out))


def _meaning(title: str) -> str | None:
    plain = "".join(char for char in title.lower() if char.isalnum())
    return next((meaning for meaning, known in MEANINGS.items() if plain in known), None)


def _csv(file: Path, text: str) -> Hosts:
    first = next((line for line in text.splitlines() if line.strip()), "")
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=max(",;\t", key=first.count))
    try:
        titles = [cell.strip() for cell in next((row for row in rows if any(row)), [])]
        columns = {title: _meaning(title) for title in titles}
        meanings = [each for each in columns.values() if each is not None]
        if "name" not in meanings and "host" not in meanings:
            do = f"Give it a header with name and any of: {_SHOWN}"
            raise InputError(file, "has no column for the device name", do, line=1)
        twice = next((each for each in meanings if meanings.count(each) > 1), None)
        if twice is not None:
            both = " and ".join(title for title, each in columns.items() if each == twice)
            raise InputError(file, f"has {both}, and both mean {twice}", "Keep one", line=1)
        devices: dict[str, dict[str, str]] = {}
        for row in rows:
            if not any(cell.strip() for cell in row):
                continue
            if len(row) != len(titles):
                met = f"has {len(row)} cells, the header has {len(titles)}"
                raise InputError(file, met, "Fix that line", line=rows.line_num)
            told = {
                meaning: cell.strip()
                for title, cell in zip(titles, row, strict=True)
                if (meaning := columns[title]) is not None and cell.strip()
            }
            name = told.setdefault("name", told.get("host", ""))
            if not name or name in devices:
                met = f"device {name!r} is listed twice" if name else "names no device"
                raise InputError(file, met, "Give each device its own name", line=rows.line_num)
            devices[name] = told
    except csv.Error as error:
        met = f"invalid CSV: {error}"
        raise InputError(file, met, "Fix that line", line=rows.line_num) from None
    if not devices:
        raise InputError(file, "names no device", "Give it one line per device")
    return Hosts(
        tuple(devices.values()), tuple(title for title in titles if columns[title] is None)
    )


FoundHosts = tuple[int | None, str, dict[str, str]]


def _ini(file: Path, text: str, group: str) -> Iterator[FoundHosts]:
    here: str | None = None
    hosts = True
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if not stripped or stripped[0] in "#;":
            continue
        if stripped[0] == "[":
            if not stripped.endswith("]"):
                raise InputError(file, f"{stripped!r} is not a group", "Close its ]", line=number)
            here = stripped[1:-1].strip()
            hosts = ":" not in here  # a group of groups, or of settings: it names no host
            continue
        if not hosts:
            continue
        try:
            name, *pairs = shlex.split(stripped, comments=True)
        except ValueError as error:
            raise InputError(file, f"cannot be read: {error}", "Fix it", line=number) from None
        told = {group: here} if here else {}
        for pair in pairs:
            key, equals, value = pair.partition("=")
            if not equals:
                met = f"{pair!r} is not KEY=VALUE"
                raise InputError(file, met, "Write each host on a line of its own", line=number)
            told[key] = value
        yield number, name, told


def _yaml(file: Path, text: str, group: str) -> Iterator[FoundHosts]:
    try:
        import yaml
    except ImportError:
        do = "Install it: pip install 'ovek[yaml]'; or write it as CSV or INI"
        raise InputError(file, "needs the extra `yaml`", do) from None

    class Plain(yaml.SafeLoader):
        """Reads plain data; a reference to what stands elsewhere is refused, as it could grow."""

        def compose_node(self, parent: Any, index: Any) -> Any:
            if self.check_event(yaml.AliasEvent):
                mark = self.peek_event().start_mark  # type: ignore[no-untyped-call]
                raise yaml.MarkedYAMLError(problem="has a reference (*name)", problem_mark=mark)
            return super().compose_node(parent, index)

    try:
        whole = yaml.load(text, Plain)  # noqa: S506 - a safe loader
    except yaml.MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark is not None else None
        met = f"invalid YAML: {error.problem}"
        raise InputError(file, met, "Fix that line", line=line) from None
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        met = f"invalid YAML: {' '.join(str(error).split())[:100]}"
        raise InputError(file, met, "Fix it") from None
    if not isinstance(whole, Mapping):
        raise InputError(file, "has no groups", "Give it groups with hosts")
    yield from _group(file, whole, group, None, 0)


def _group(
    file: Path, inside: Mapping[Any, Any], group: str, here: str | None, deep: int
) -> Iterator[FoundHosts]:
    """Go through the hosts of a group and of those in it."""
    if deep > _DEEPEST:
        raise InputError(file, f"has groups deeper than {_DEEPEST}", "Flatten it", key=here)
    for key, value in inside.items():
        name = str(key)
        if name == "hosts":
            yield from _hosts(file, value, group, here)
        elif name == "children" and isinstance(value, Mapping):
            yield from _group(file, value, group, here, deep + 1)
        elif isinstance(value, list):
            yield from _hosts(file, value, group, name)
        elif isinstance(value, Mapping) and {"hosts", "children"} & {str(one) for one in value}:
            yield from _group(file, value, group, name, deep + 1)
        elif isinstance(value, Mapping) and all(
            isinstance(one, Mapping) or one is None for one in value.values()
        ):
            yield from _hosts(file, value, group, name)


def _hosts(file: Path, hosts: Any, group: str, here: str | None) -> Iterator[FoundHosts]:
    front = {group: here} if here not in (None, "all") else {}
    listed = dict.fromkeys(hosts) if isinstance(hosts, list) and all(
        isinstance(one, str | int) for one in hosts
    ) else hosts  # fmt: skip
    if listed is None:
        return
    if not isinstance(listed, Mapping):
        text = f"the hosts of {shown_name(Path(here or 'all'))} are neither a list nor a mapping"
        raise InputError(file, text, "Name each host", key=here)
    for name, told in listed.items():
        keys = told if isinstance(told, Mapping) else {}
        plain = {str(key): str(value) for key, value in keys.items() if _is_plain(value)}
        yield None, str(name), {**front, **plain}


def _is_plain(value: Any) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool)
