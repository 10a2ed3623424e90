"""Look at shelves: are the files on them what was released?"""

import logging
import os
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from difflib import get_close_matches
from functools import partial
from hashlib import sha256
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.catalog import chosen_for
from ovek.app.devices import releases_of, site_context
from ovek.app.means import Bar, Runner, shown
from ovek.app.runner import here
from ovek.app.shelves import (
    algorithms_of,
    files_in_archive,
    files_in_folder,
    judged_files,
    trusted_files,
    used_by,
    with_signatures,
)
from ovek.engine.offers import offer
from ovek.engine.releases import ReleaseIndex
from ovek.files.atomic import write_whole
from ovek.files.catalog import OPENED, keep_opened
from ovek.files.decode import cannot_read
from ovek.files.errors import InputError
from ovek.files.importers.digestlist import line_of
from ovek.files.importers.sidefile import normalised
from ovek.files.lock import locked
from ovek.files.safe_open import opened, refuse_leaving
from ovek.files.shelves import read_record, write_record
from ovek.files.site import Site
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, STRONGEST_FIRST, TITLES, Algorithm, Digests, algorithm_of
from ovek.model.fleet import Shelf, without_user
from ovek.model.rate import parse_rate
from ovek.model.results.shelves import Expectation, ShelfLook, ShelfSeen
from ovek.model.shelf import Look, Offer, ShelfFile, ShelfRecord, ShelfVerdict
from ovek.model.size import parse_size
from ovek.model.usage import UsageError

_LOG = logging.getLogger(__name__)


class HowToLook(Struct, frozen=True, kw_only=True):
    """How shelves are looked at.

    `fresh` digests again what is known, `rate` is how fast servers are read, in bytes a second;
    `take_new_keys` trusts host keys that are not known yet, `password` asks for the password of
    the servers. `runner` is where files are digested, `bar` shows how far that is.
    """

    fresh: bool = False
    rate: int | None = None
    take_new_keys: bool = False
    password: Callable[[], str] | None = None
    runner: Runner | None = None
    bar: Bar | None = None


def inspect_shelves(
    site: Site,
    place: str | None = None,
    how: HowToLook | None = None,
    *,
    device: str | None = None,
    write_list: Path | None = None,
) -> ShelfLook:
    """Are the files of a place (by default all shelves of the site) what was released?

    `place` is a folder, an archive, a shelf of fleet.toml by its name, or an address. `device` is
    one that they are held against; `write_list` a digest list that is written of them. Raises
    InputError, UsageError.

    >>> from ovek import inspect_shelves, open_site
    >>> look = inspect_shelves(open_site("skerrow-ferries"), "skerrow-ferries/stick")
    >>> look.wrong, len(look.files) > 0
    (True, True)
    """
    how = how or HowToLook()
    shelves = _shelves_meant(site, place)
    releases = releases_of(site)
    using = used_by(site)
    also = [*using.algorithms, *([_algorithm_of_list(write_list)] if write_list else ())]
    algorithms = algorithms_of(releases, also)
    looks = []
    for shelf in shelves:
        files, read_at, problem = _look_at(
            site, shelf, algorithms, releases, how, alone=place is not None
        )
        judged = list(judged_files(site, files, releases, using))
        if shelf.is_local:
            folder = site.folder / Path(shelf.at).expanduser()
            judged = with_signatures(site, releases, folder, judged, fresh=how.fresh)
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
    return _result(site, looks, _offer(site, device, found) if device is not None else None)


def _result(site: Site, looks: list[Look], offered: Offer | None) -> ShelfLook:
    several = len(looks) > 1
    return ShelfLook(
        **asdict(site_context(site)),
        folder=looks[0].at if len(looks) == 1 else None,
        shelves=[
            ShelfSeen(
                name=one.name,
                at=one.at,
                read_at=one.read_at,
                files=len(one.files),
                problem=one.problem,
            )
            for one in looks
        ],
        files=[
            replace(one, path=f"{look.name}/{one.path}") if several else one
            for look in looks
            for one in look.files
        ],
        offer=offered,
        looks=looks,
    )


def compare_digest(file: Path, digest: str) -> Expectation:
    """Hold one file against a digest that was pasted. Raises InputError, UsageError."""
    from ovek.sources.shelf import digest_stream

    wanted = normalised(digest)
    algorithm = algorithm_of(wanted)
    if algorithm is None or set(wanted) - set("0123456789abcdef"):
        lengths = ", ".join(f"{LENGTHS[name]} ({TITLES[name]})" for name in reversed(LENGTHS))
        problem = f"{wanted!r} is not a digest: expected {lengths} hex characters"
        raise UsageError(problem, "--expect")
    try:
        with opened(file) as stream:
            _, digests = digest_stream(stream, [algorithm], lambda size: None)
    except OSError as error:
        raise cannot_read(file, error) from None
    made = dict(digests)[algorithm]
    return Expectation(file=str(file), algorithm=algorithm, wanted=wanted, made=made)


def _shelves_meant(site: Site, place: str | None) -> list[Shelf]:
    """The shelves that are looked at: all of the site, or one. Raises InputError."""
    listed = {shelf.name: shelf for shelf in site.head.shelf}
    own = site.folder / "shelf"
    if place is None:
        refuse_leaving(own)
        found = [Shelf(name="shelf", at=str(own.resolve()))] if own.is_dir() else []
        found += site.head.shelf
        if not found:
            do = "Name one: ovek shelf PLACE; or list a [[shelf]] in fleet.toml"
            raise InputError(own, "is not a folder", do)
        return found
    if place in listed:
        return [listed[place]]
    if "://" in place:
        try:
            return [Shelf(name=place, at=place)]
        except ValueError as error:
            raise UsageError(str(error), "PLACE") from None
    if not os.path.lexists(place):
        near = get_close_matches(place, listed, n=1)
        do = f"Did you mean {near[0]!r}?" if near else (
            "Name a folder, an archive, a [[shelf]] of fleet.toml, or an address"
        )  # fmt: skip
        raise InputError(place, "is neither a folder nor a [[shelf]] in fleet.toml", do)
    return [Shelf(name=place, at=str(Path(place).absolute()))]


def _look_at(
    site: Site,
    shelf: Shelf,
    algorithms: tuple[Algorithm, ...],
    releases: ReleaseIndex,
    how: HowToLook,
    *,
    alone: bool,
) -> tuple[list[ShelfFile], datetime | None, str | None]:
    """What a shelf holds, when it was read if that was on a server, and why it could not be.

    What could not be read now is known from the last time, where there was one. A folder that is
    not there, a stick that is not in, is an error where it is meant `alone`.
    """
    if shelf.is_local:
        place = site.folder / Path(shelf.at).expanduser()
        refuse_leaving(place)
        if place.is_dir():
            runner = how.runner or here
            files = files_in_folder(place, algorithms, how.bar, fresh=how.fresh, runner=runner)
            return files, None, None
        if not place.exists():
            missing = InputError(
                place, "is neither a folder nor an archive", "Fix `at` in fleet.toml"
            )
            if alone:
                raise missing
            return [], None, str(missing)
        return files_in_archive(place, algorithms, how.bar), None, None
    from ovek.sources.problem import ReadProblem

    known = next((one for one in site.head.shelf if one == shelf), None)
    before = read_record(site.folder, shelf) if known is not None else None
    try:
        files = _from_store(site, shelf, algorithms, releases, None if how.fresh else before, how)
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
    site: Site, before: ShelfRecord | None, text: str
) -> tuple[list[ShelfFile], datetime | None, str]:
    """What is known of a shelf that cannot be read now, and why it cannot."""
    if before is None:
        return [], None, text
    return trusted_files(site, before), before.read_at, text


def _from_store(
    site: Site,
    shelf: Shelf,
    algorithms: tuple[Algorithm, ...],
    releases: ReleaseIndex,
    before: ShelfRecord | None,
    how: HowToLook,
) -> list[ShelfFile]:
    """Read a shelf of a server. Raises ReadProblem, InputError."""
    from ovek.files.cache import cache_folder
    from ovek.sources.problem import ReadProblem
    from ovek.sources.stores import store_of
    from ovek.sources.stores.fetching import (
        finished_in,
        forget_finished,
        keep_finished,
        read_store,
    )
    from ovek.sources.stores.interface import ShelfAccess
    from ovek.sources.trust import HostKeys, Secrets

    login = site.fleet.shelf_login(shelf)
    if isinstance(login, str):
        text = f"the shelf {shelf.name!r}: {login}"
        do = "Name a device with a host, or a [[jump_host]]"
        raise InputError(site.folder / "fleet.toml", text, do, key="through")
    keys = HostKeys(site.folder / "known_hosts", take_new=how.take_new_keys)
    password = how.password() if how.password is not None else None
    secrets = Secrets(None if password is None else lambda: password, site.folder)
    access = ShelfAccess(keys=keys, secrets=secrets, login=login)
    spool = cache_folder("shelves", sha256(shelf.at.encode()).hexdigest()[:16])
    store = store_of(shelf, site.folder, access)
    known = {one.path: one for one in (*finished_in(spool), *(before.files if before else ()))}
    done: list[ShelfFile] = []
    try:
        with locked(spool / ".lock", "a look at that shelf"):
            files = store.files()
            own_rate = parse_rate(shelf.rate) if shelf.rate is not None else None
            with shown(how.bar, sum(file.size or 0 for file in files)) as advance:
                found = read_store(
                    store,
                    files,
                    algorithms,
                    spool,
                    known=known,
                    by_word=site.policy.server_digests,
                    rate=how.rate or own_rate,
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


def _keep_opened(site: Site, releases: ReleaseIndex, verdicts: Iterable[ShelfVerdict]) -> None:
    """Keep in catalog/ what proven archives contain, so that it proves files on flash, too."""
    opened = []
    for verdict in verdicts:
        known = releases.named(verdict.release or "", case_blind=False)
        if (
            verdict.verdict != "proven"
            or not verdict.contains
            or len(known) != 1
            or known[0].contains
        ):
            continue
        parts = [fact for fact in verdict.digests if fact[0] in known[0].digests]
        contents = Release(
            file=known[0].file, digests=Digests(**dict(parts)), contains=verdict.contains
        )
        opened.append(Published(contents, Origin(verdict.path, 1)))
    if not opened:
        return
    try:
        news = keep_opened(site.folder / "catalog", opened, datetime.now(UTC).date())
    except InputError as error:
        _LOG.warning("%s The contents of archives are not stored.", error)
        return
    if news:
        names = ", ".join(entry.release.file for entry in opened)
        _LOG.warning("the contents of %s are stored in catalog/%s.", names, OPENED)


def _offer(site: Site, name: str, verdicts: Iterable[ShelfVerdict]) -> Offer:
    """Hold the shelf against one device of the newest snapshot."""
    judged, chosen = chosen_for(site, name)
    return offer(judged, chosen, verdicts)


def _algorithm_of_list(file: Path) -> Algorithm:
    for name in STRONGEST_FIRST:
        if file.suffix.lower() == f".{name}":
            return name
    known = ", ".join(f".{name}" for name in STRONGEST_FIRST)
    raise UsageError(f"{file.name!r} has to end in {known}", "--write-list")


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
