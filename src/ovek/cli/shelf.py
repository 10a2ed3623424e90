"""`ovek shelf`: are the files on the server or stick what was released?"""

import os
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from difflib import get_close_matches
from functools import partial
from hashlib import sha256
from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace

from ovek.app.devices import releases_of, site_context
from ovek.app.shelves import (
    algorithms_of,
    files_in_archive,
    files_in_folder,
    judged_files,
    trusted_files,
    used_by,
)
from ovek.cli.command import Command
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import shelves as complete_shelves
from ovek.cli.options import FORMAT, SITE, size_option, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.say import tell
from ovek.cli.selection import on_option
from ovek.engine.offers import offer
from ovek.engine.releases import ReleaseIndex
from ovek.files.catalog import OPENED, keep_opened
from ovek.files.errors import InputError
from ovek.files.importers.digestlist import line_of
from ovek.files.importers.sidefile import normalised
from ovek.files.lock import locked
from ovek.files.regular import opened, refuse_leaving
from ovek.files.shelves import read_record, write_record
from ovek.files.site import Site
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, STRONGEST_FIRST, TITLES, Algorithm, Digests, algorithm_of
from ovek.model.fleet import Shelf, without_user
from ovek.model.rate import parse_rate
from ovek.model.shelf import Look, Offer, ShelfFile, ShelfRecord, ShelfVerdict
from ovek.model.size import parse_size


@click.command("shelf", cls=Command, examples=("shelf stick", "shelf stick --fits brack-slip"))
@click.argument("place", required=False, shell_complete=complete_shelves)
@click.option("--expect", metavar="DIGEST", help="Compare one file with this digest instead.")
@click.option(
    "--write-list",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Write a digest list of the folder; the ending (.md5, .sha512, …) says which digest.",
)
@click.option(
    "--fits",
    metavar="DEVICE",
    shell_complete=complete_devices,
    help="Which of the files are for this device?",
)
@click.option("--fresh", is_flag=True, help="Digest again what is known from before.")
@click.option(
    "--rate", callback=size_option, metavar="SIZE", help="Read from a server at SIZE a second."
)
@click.option("--take-new-keys", is_flag=True, help="Trust host keys that are not known yet.")
@click.option("--ask-password", is_flag=True, help="Ask for the password of the servers, once.")
@click.option("-v", "--verbose", is_flag=True, help="Name files that are no images, too.")
@on_option
@SITE
@FORMAT
def command(
    place: str | None,
    expect: str | None,
    write_list: Path | None,
    fits: str | None,
    fresh: bool,
    verbose: bool,
    site_folder: Path,
    format_: str,
    **how: Any,
) -> None:
    """Are the files of PLACE (default: all shelves of the site) what was released?

    PLACE is a folder, an archive, a [[shelf]] of fleet.toml by its name, or an address: sftp://,
    https:// or tftp://. Digests every file, looks into archives without unpacking them, checks what
    a file's own format promises, and says which devices use it. What a server holds is kept in
    shelves/, for custody, where and the audit. With --expect, PLACE is one file. Exit code 1 where
    a file is altered, cut short, broken inside or bears another release's name, or, with --fits,
    where the one for the device has no proven copy; 3 where a file or a shelf could not be read.
    """
    if expect is not None:
        if place is None:
            raise click.UsageError("say which file: ovek shelf --expect DIGEST FILE")
        _expect(Path(place), expect)
        return
    site = Site(site_folder)
    shelves = shelves_meant(site, place)
    releases = releases_of(site)
    using = used_by(site)
    also = [*using.algorithms, *([_algorithm_of_list(write_list)] if write_list else ())]
    algorithms = algorithms_of(releases, also)
    looks = []
    for shelf in shelves:
        files, read_at, problem = look_at(
            site, shelf, algorithms, releases, fresh=fresh, alone=place is not None, **how
        )
        judged = list(judged_files(site, files, releases, using))
        _keep_opened(site, releases, judged)
        looks.append(
            Look(
                name=without_user(shelf.name),
                at=shelf.shown,
                read_at=read_at,
                files=judged,
                problem=problem,
            )
        )
        if write_list is not None:
            _write_list(write_list, shelf, files)
    found = [one for look in looks for one in look.files]
    offered = _offer(site, fits, found) if fits is not None else None
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        whole = json.shelf(site_context(site), looks, offered)
        write_json(whole, format_, "files")
    elif offered is not None:
        from ovek.render.shelf import offer as told

        write_lines(told(offered))
    else:
        from ovek.render.shelf import shelves as lines

        write_lines(lines(looks, verbose=verbose))
    if offered is not None:
        sys.exit(0 if offered.good is not None else 1)
    if any(
        one.verdict in ("altered", "cut-short")
        or one.named is not None
        or (one.structure is not None and not one.structure.sound and one.verdict != "proven")
        for one in found
    ):
        sys.exit(1)
    if any(look.problem is not None for look in looks) or any(
        one.problem is not None for one in found
    ):
        sys.exit(3)


def shelves_meant(site: Site, place: str | None) -> list[Shelf]:
    """The shelves that are looked at: all of the site, or one. Raises InputError."""
    listed = {shelf.name: shelf for shelf in site.fleet.shelf}
    own = site.folder / "shelf"
    if place is None:
        refuse_leaving(own)
        found = [Shelf(name="shelf", at=str(own.resolve()))] if own.is_dir() else []
        found += site.fleet.shelf
        if not found:
            do = "Name one: ovek shelf PLACE; or list a [[shelf]] in fleet.toml"
            raise InputError(own, "is no folder", do)
        return found
    if place in listed:
        return [listed[place]]
    if "://" in place:
        try:
            return [Shelf(name=place, at=place)]
        except ValueError as error:
            raise click.BadParameter(str(error), param_hint="PLACE") from None
    if not os.path.lexists(place):
        near = get_close_matches(place, listed, n=1)
        do = f"Did you mean {near[0]!r}?" if near else (
            "Name a folder, an archive, a [[shelf]] of fleet.toml, or an address"
        )  # fmt: skip
        raise InputError(place, "is no folder and no shelf of fleet.toml", do)
    return [Shelf(name=place, at=str(Path(place).absolute()))]


def look_at(
    site: Site,
    shelf: Shelf,
    algorithms: tuple[Algorithm, ...],
    releases: ReleaseIndex,
    *,
    fresh: bool,
    alone: bool,
    on: str | None,
    rate: int | None,
    take_new_keys: bool,
    ask_password: bool,
) -> tuple[list[ShelfFile], datetime | None, str | None]:
    """What a shelf holds, when it was read if that was on a server, and why it could not be.

    What could not be read now is known from the last time, where there was one. A folder that is
    not there, a stick that is not in, is an error where it is meant `alone`.
    """
    if shelf.is_local:
        place = site.folder / Path(shelf.at).expanduser()
        refuse_leaving(place)
        if place.is_dir():
            return files_in_folder(place, algorithms, bytes_bar, fresh=fresh, on=on), None, None
        if not place.exists():
            missing = InputError(place, "is no folder and no archive", "Mend at in fleet.toml")
            if alone:
                raise missing
            return [], None, str(missing)
        return files_in_archive(place, algorithms, bytes_bar), None, None
    from ovek.sources.problem import ReadProblem

    known = next((one for one in site.fleet.shelf if one == shelf), None)
    before = read_record(site.folder, shelf) if known is not None else None
    try:
        files = _from_store(site, shelf, algorithms, releases, None if fresh else before, rate,
                            take_new_keys, ask_password)  # fmt: skip
    except ReadProblem as problem:
        return _as_before(site, before, f"{problem}. {problem.do}.")
    except InputError as error:
        if alone:
            raise
        return _as_before(site, before, str(error))
    except Exception as defect:
        return _as_before(
            site, before, f"a defect of Ovek: {type(defect).__name__}: {defect}. Please report it."
        )
    read_at = datetime.now(UTC).replace(microsecond=0)
    if known is not None:
        record = ShelfRecord(shelf=shelf.name, at=shelf.at, read_at=read_at, files=tuple(files))
        write_record(site.folder, shelf, record)
    return files, read_at, None


def _as_before(
    site: Site, before: ShelfRecord | None, told: str
) -> tuple[list[ShelfFile], datetime | None, str]:
    """What is known of a shelf that cannot be read now, and why it cannot."""
    if before is None:
        return [], None, told
    return trusted_files(site, before), before.read_at, told


def _from_store(
    site: Site,
    shelf: Shelf,
    algorithms: tuple[Algorithm, ...],
    releases: ReleaseIndex,
    before: ShelfRecord | None,
    rate: int | None,
    take_new_keys: bool,
    ask_password: bool,
) -> list[ShelfFile]:
    """Read a shelf of a server. Raises ReadProblem, InputError."""
    from ovek.cli.survey import password_prompt
    from ovek.files.kept import cache_folder
    from ovek.sources.problem import ReadProblem
    from ovek.sources.stores import store_of
    from ovek.sources.stores.fetching import (
        finished_in,
        forget_finished,
        keep_finished,
        read_store,
    )
    from ovek.sources.stores.interface import Access
    from ovek.sources.trust import HostKeys, Secrets

    login = site.fleet.shelf_login(shelf)
    if isinstance(login, str):
        met = f"the shelf {shelf.name!r}: {login}"
        do = "Name a device with a host, or a [[jump_host]]"
        raise InputError(site.folder / "fleet.toml", met, do, key="through")
    keys = HostKeys(site.folder / "known_hosts", take_new=take_new_keys)
    prompt = password_prompt() if ask_password else None
    secrets = Secrets(prompt, site.folder)
    access = Access(keys=keys, secrets=secrets, login=login)
    spool = cache_folder("shelves", sha256(shelf.at.encode()).hexdigest()[:16])
    store = store_of(shelf, site.folder, access)
    known = {one.path: one for one in (*finished_in(spool), *(before.files if before else ()))}
    done: list[ShelfFile] = []
    try:
        with locked(spool / ".lock", "a look at that shelf"):
            files = store.files()
            own_rate = parse_rate(shelf.rate) if shelf.rate is not None else None
            with bytes_bar(sum(file.size or 0 for file in files)) as advance:
                found = read_store(
                    store,
                    files,
                    algorithms,
                    spool,
                    known=known,
                    by_word=site.policy.server_digests,
                    rate=rate or own_rate,
                    most=partial(_most, shelf, releases),
                    advance=advance,
                )
                for file in found:
                    problem = None if file.problem is None else secrets.masked(file.problem)
                    done.append(replace(file, problem=problem))
    except ReadProblem as error:
        keep_finished(spool, done)
        raise ReadProblem(error.doing, secrets.masked(error.met), error.do) from None
    except BaseException:
        keep_finished(spool, done)  # so that nothing that was read has to come again
        raise
    finally:
        store.close()
        keys.save()
    forget_finished(spool)
    return done


def _most(shelf: Shelf, releases: ReleaseIndex, file: Any) -> int:
    """The bytes that are fetched at most of a file whose size the server does not tell.

    They are those that are published, and a tenth: so a longer one is seen to be longer.
    """
    from ovek.sources.stores.fetching import LARGEST_UNTOLD

    name = file.path.rpartition("/")[2]
    sizes = [size for one in releases.named(name, case_blind=True) for size in one.sizes]
    if sizes:
        return max(sizes) * 11 // 10
    return LARGEST_UNTOLD if shelf.largest is None else parse_size(shelf.largest)


def _keep_opened(site: Site, releases: ReleaseIndex, found: Iterable[ShelfVerdict]) -> None:
    """Keep in catalog/ what proven archives contain, so that it proves files on flash, too."""
    opened = []
    for one in found:
        known = releases.named(one.release or "", case_blind=False)
        if one.verdict != "proven" or not one.contains or len(known) != 1 or known[0].contains:
            continue
        told = [fact for fact in one.digests if fact[0] in known[0].digests]
        contents = Release(file=known[0].file, digests=Digests(**dict(told)), contains=one.contains)
        opened.append(Published(contents, Origin(one.path, 1)))
    if not opened:
        return
    try:
        news = keep_opened(site.folder / "catalog", opened, datetime.now(UTC).date())
    except InputError as error:
        tell(f"{error!s} What archives contain is not kept.")
        return
    if news:
        names = ", ".join(entry.release.file for entry in opened)
        tell(f"what {names} contains is kept in catalog/{OPENED}.")


def _offer(site: Site, name: str, found: Iterable[ShelfVerdict]) -> Offer:
    """Hold the shelf against one device of the newest snapshot."""
    from ovek.cli.catalog import chosen_for

    judged, chosen = chosen_for(site, name)
    return offer(judged, chosen, found)


SHELVES = click.option(
    "--shelf",
    "shelves",
    multiple=True,
    metavar="FOLDER",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="A folder that images came through after the site's shelf/ (a laptop, a stick), in order.",
)


def _expect(file: Path, digest: str) -> None:
    """Compare one file with a pasted digest."""
    from ovek.render.shelf import expectation
    from ovek.sources.shelf import digest_stream

    wanted = normalised(digest)
    algorithm = algorithm_of(wanted)
    if algorithm is None or set(wanted) - set("0123456789abcdef"):
        lengths = ", ".join(f"{LENGTHS[name]} ({TITLES[name]})" for name in reversed(LENGTHS))
        raise click.BadParameter(
            f"it has {len(wanted)} characters; a digest is hex and as long as {lengths}",
            param_hint="--expect",
        )
    try:
        with opened(file) as stream:
            _, digests = digest_stream(stream, [algorithm], lambda size: None)
    except OSError as error:
        raise cannot_read(file, error) from None
    made = dict(digests)[algorithm]
    write_lines(expectation(str(file), algorithm, wanted, made))
    if made != wanted:
        sys.exit(1)


def _algorithm_of_list(file: Path) -> Algorithm:
    for name in STRONGEST_FIRST:
        if file.suffix.lower() == f".{name}":
            return name
    known = ", ".join(f".{name}" for name in STRONGEST_FIRST)
    raise click.BadParameter(f"{file.name!r} has to end in {known}", param_hint="--write-list")


def _write_list(file: Path, shelf: Shelf, files: list[ShelfFile]) -> None:
    """Write the names as the folder has them, so that a checksum program finds each."""
    from ovek.sources.shelf import names_in

    here = shelf.is_local and Path(shelf.at).is_dir()
    algorithm, names = _algorithm_of_list(file), names_in(Path(shelf.at)) if here else {}
    lines = [
        line_of(digest, names.get(one.path, one.path))
        for one in files
        if (digest := _known(one.digests, algorithm)) is not None
    ]
    write_whole(file, ["".join(lines).encode("utf-8", "surrogateescape")])


def _known(digests: Digests, algorithm: Algorithm) -> str | None:
    return dict(digests).get(algorithm)
