"""A site: the folder with everything that Ovek needs for one network."""

import os
from collections.abc import Collection
from datetime import UTC, datetime
from difflib import get_close_matches
from functools import cached_property
from glob import glob
from pathlib import Path

from ovek.files.advisories import advisory_stamps, read_advisories, read_aliases
from ovek.files.annotations import read_annotations
from ovek.files.catalog import read_catalogs
from ovek.files.decode import read_bytes, read_toml, read_toml_parts
from ovek.files.errors import InputError
from ovek.files.fleet import FleetFile
from ovek.files.sheets import find_sheet, is_shipped, sheet_names
from ovek.files.signatures.keyring import Keyring
from ovek.files.state import State, state_in, state_of, state_over, state_until
from ovek.model.advisory import Advisory, ProductAlias
from ovek.model.annotation import Annotation
from ovek.model.catalog import Published
from ovek.model.fleet import Fleet
from ovek.model.policy import FORMAT as POLICY_FORMAT
from ovek.model.policy import Policy
from ovek.model.sheet import FORMAT as SHEET_FORMAT
from ovek.model.sheet import Sheet
from ovek.model.waiver import FORMAT as WAIVERS_FORMAT
from ovek.model.waiver import Waiver, Waivers


class Site:
    """One site, its files read when they are first asked for. Raises InputError on each.

    Its state may be that `until` a time; its snapshots lie where its files do, unless `lies` tells
    another folder.
    """

    def __init__(
        self, folder: Path, *, until: datetime | None = None, lies: Path | None = None
    ) -> None:
        self.folder, self.until, self.lies = folder, until, lies or folder
        if not os.path.lexists(folder / "fleet.toml"):
            do = (
                "Use --site FOLDER, or create one: ovek init FOLDER (your network), ovek "
                "demo FOLDER (sample)"
            )
            raise InputError(folder, "is not an Ovek site folder (no fleet.toml)", do)

    @cached_property
    def fleet_file(self) -> FleetFile:
        """`fleet.toml` and its lists, of which only what is asked for need be read."""
        return FleetFile(self.folder)

    @property
    def fleet(self) -> Fleet:
        """The devices, from `fleet.toml` and its lists."""
        return self.fleet_file.whole

    @property
    def head(self) -> Fleet:
        """What the fleet file says beside its devices."""
        return self.fleet_file.head

    @cached_property
    def policy(self) -> Policy:
        """What is wanted, from `policy.toml`; the defaults where there is none."""
        file = self.folder / "policy.toml"
        if not file.exists():
            return Policy()
        return read_toml_parts(file, Policy, POLICY_FORMAT)

    @cached_property
    def waivers(self) -> tuple[Waiver, ...]:
        """The accepted findings, from `waivers.toml`; none where there is no such file."""
        file = self.folder / "waivers.toml"
        return read_toml_parts(file, Waivers, WAIVERS_FORMAT).waiver if file.exists() else ()

    @cached_property
    def releases(self) -> list[Published]:
        """Every release that some source in `catalog/` tells of."""
        # Files of then are judged by the time of then, today's by that of today.
        then = self.until if self.lies != self.folder else None
        return read_catalogs(
            self.folder / "catalog", self.left_out, self.keyring, then or datetime.now(UTC)
        )

    @cached_property
    def keyring(self) -> Keyring:
        """The keys by which signatures of lists and images are checked."""
        return Keyring(self.folder)

    @cached_property
    def advisories(self) -> tuple[Advisory, ...]:
        """The security advisories in `advisories/`."""
        return read_advisories(self.folder, self.advisory_stamps)

    @cached_property
    def advisory_stamps(self) -> list[tuple[str, int, int]]:
        """The documents of the advisories: the name, size and time of each, by name."""
        return advisory_stamps(self.folder)

    @cached_property
    def product_aliases(self) -> tuple[ProductAlias, ...]:
        """What the catalog calls products of advisories, from `advisories/products.toml`."""
        return read_aliases(self.folder)

    @cached_property
    def annotations(self) -> tuple[Annotation, ...]:
        """What the site itself says of releases."""
        return read_annotations(self.folder / "catalog")

    @cached_property
    def left_out(self) -> list[InputError]:
        """The lines of lists in `catalog/` that could not be read, once the releases were."""
        return []

    @cached_property
    def _sheets(self) -> dict[str, Sheet]:
        return {}

    def sheet(self, name: str) -> Sheet | None:
        """The sheet of this name: the site's own, else the one that ships with Ovek, else None."""
        if name not in self._sheets:
            file = find_sheet(self.folder, name)
            if file is None:
                return None
            self._sheets[name] = read_sheet(file)
        return self._sheets[name]

    def has_sheet(self, name: str) -> bool:
        """Whether there is a sheet of this name, its own or one that ships with Ovek."""
        return name in self._sheets or find_sheet(self.folder, name) is not None

    @property
    def sheet_names(self) -> list[str]:
        """The names of the sheets that may be of use: all that lie in folders, and the fleet's."""
        names = sheet_names(self.folder, installed=False)
        return sorted({*names, *self.fleet_file.sheets})

    def state(self, named: str | None = None) -> State:
        """The newest line of each device; or the devices of one snapshot, by its file or name.

        A glob means all snapshots that it matches, of several collectors say: the newest line of
        each device over these.
        """
        if named is not None and set("*?[") & set(named) and not os.path.lexists(named):
            return state_over(self._matching(named))
        if named is not None:
            return state_in(self.snapshot(named))
        folder, names = self.lies / "snapshots", self.fleet_file.names
        until = self.until
        state = state_of(folder) if until is None else state_until(folder, until)
        return state.of_fleet(names, lists_none=not names)

    def state_of(self, names: Collection[str]) -> State | None:
        """The newest lines of some devices alone; None where one of them has none.

        Of a large fleet no other device is looked at.
        """
        if self.until is not None:
            return None
        near = state_of(self.lies / "snapshots", names)
        none = not self.fleet_file.sheets
        found = near.of_fleet(self.fleet_file.devices(names), lists_none=none)
        return found if found.lines.keys() == set(names) else None

    def _matching(self, pattern: str) -> list[Path]:
        """The snapshots that a glob matches, from here or from the site. Raises InputError."""
        for start in ("", str(self.lies)):
            found = sorted(glob(os.path.join(start, pattern), recursive=True))  # noqa: PTH118, PTH207
            files = [Path(each) for each in found if each.endswith(".jsonl")]
            if files:
                return files
        raise InputError(pattern, "matches no snapshot (*.jsonl)", "Give existing files")

    def known_files(self, *, advisories: bool = True) -> dict[str, bytes]:
        """What the snapshots are judged by: the site's files but those of its state, by name.

        There may be very many `advisories`, which not everybody needs.

        Raises InputError.
        """
        found: dict[str, bytes] = {}
        lists = [self.folder / name for name in self.head.lists]
        named = [self.folder / name for name in ("fleet.toml", "policy.toml", "waivers.toml")]
        names = ("catalog", "sheets", *(("advisories",) if advisories else ()))
        folders = [self.folder / name for name in names]
        inside = [file for each in folders if each.is_dir() for file in sorted(each.iterdir())]
        for name in self.fleet_file.sheets:
            file = find_sheet(self.folder, name)
            if file is not None and not is_shipped(file) and file.parent != folders[1]:
                found[f"sheets/{name}.toml"] = read_bytes(file)
        for file in (*named, *lists, *inside, *self.keyring.files):
            if file.is_file() and not file.name.startswith("."):
                found[file.relative_to(self.folder).as_posix()] = read_bytes(file)
        return found

    def snapshot(self, named: str) -> Path:
        """A snapshot by its file, or by its name in snapshots/ or baselines/. Raises InputError."""
        folders = [self.lies / "snapshots", self.lies / "baselines"]
        stem = named.removesuffix(".jsonl")
        inside = [folder / f"{Path(stem).name}.jsonl" for folder in folders]
        for file in (Path(named), self.lies / named, *inside):
            if file.is_file():
                return file
        if os.path.lexists(named):  # a folder, say: what it is, is told where it is read
            return Path(named)
        known = [file.stem for folder in folders for file in folder.glob("*.jsonl")]
        near = get_close_matches(stem, known, n=1)
        do = (
            f"Did you mean {near[0]!r}?"
            if near
            else "Give a file, or a name from snapshots/ or baselines/"
        )
        raise InputError(named, "is neither a snapshot nor a baseline", do)


def read_sheet(file: Path) -> Sheet:
    """Read one sheet; its name is the file's, so that it can be found. Raises InputError."""
    found = read_toml(file, Sheet, SHEET_FORMAT)
    if found.name != file.stem:
        text = f"the name is {found.name!r} but the file is {file.name}"
        raise InputError(file, text, "Give both the same name", key="name")
    return found
