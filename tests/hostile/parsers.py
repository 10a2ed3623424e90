"""Every parser of what comes from outside: how it is called, and what it may raise."""

import asyncio
import gzip
import os
import tempfile
import tomllib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec

from builders import NOW, signing
from hostile import samples
from ovek.files.advisories import KEPT, advisory_stamps, read_advisories
from ovek.files.bootenv import BootEnvError, read_grub_env, read_u_boot_env
from ovek.files.catalog import read_catalog
from ovek.files.csaf import read_csaf
from ovek.files.database import FLEET, INDEX, names_in_fleet, names_in_index
from ovek.files.decode import list_text, read_toml_parts, text_of
from ovek.files.errors import InputError, ManyInputError
from ovek.files.evidence import read_evidence
from ovek.files.fleet import FleetFile
from ovek.files.hosts import read_hosts
from ovek.files.importers import digestlist, metalink, pasted, sidefile, table
from ovek.files.importers.known import IMPORTERS, importer_of
from ovek.files.journal import Journal
from ovek.files.shelves import read_record
from ovek.files.signatures.check import check_list, has_signature
from ovek.files.signatures.keyring import Keyring
from ovek.files.site import read_sheet
from ovek.files.snapshot import read_snapshot
from ovek.files.state import state_in, state_of
from ovek.files.structure import structure_of
from ovek.learn.guesses import guesses
from ovek.learn.lesson import SessionError, learn
from ovek.learn.sheet_text import head_of, learned_of, whole
from ovek.model.advisory import ALIASES_FORMAT, ProductAliases
from ovek.model.fleet import FleetDevice, Shelf
from ovek.model.naming import Naming
from ovek.model.policy import FORMAT as POLICY_FORMAT
from ovek.model.policy import Policy
from ovek.model.sheet import Sheet
from ovek.model.signature import KEYS_FORMAT, SigningKeys
from ovek.model.size import SizeError, parse_size
from ovek.model.version import compare
from ovek.model.waiver import FORMAT as WAIVERS_FORMAT
from ovek.model.waiver import Waivers
from ovek.render.visible import visible
from ovek.sources.capture import answers_in, asking, read_capture
from ovek.sources.clean import plain
from ovek.sources.device_session import Interview, WantedDigests
from ovek.sources.mistakes import mistakes_in
from ovek.sources.rows import check_templates
from ovek.sources.shelf import Cache, read_shelf
from ovek.sources.survey import EvidenceError, outcome_of, replay
from ovek.sources.trust import HostKeys

ALLOWED = (InputError, ManyInputError, EvidenceError, BootEnvError, SizeError)
Run = Callable[[Path], object]


def _whole(read: Callable[[Path], object]) -> Run:
    return lambda file: list(read(file))  # type: ignore[call-overload]


def _snapshot(file: Path) -> None:
    state_in(file)
    for device in read_snapshot(file):
        msgspec.json.encode(device)


def _import(file: Path) -> None:
    importer = importer_of(file)
    importer.understood(file, {})
    list(importer.read(file, {}))


def _fleet(file: Path) -> None:
    file.rename(file.with_name("fleet.toml"))
    file.with_name("addresses.csv").write_bytes(samples.ADDRESSES)
    FleetFile(file.parent)


def _fleet_list(file: Path) -> None:
    fleet = f'format = "ovek.fleet/1"\nname = "x"\nlists = ["{file.name}"]\n'
    file.with_name("fleet.toml").write_text(fleet)
    FleetFile(file.parent)


def _sheet(file: Path) -> None:
    sheet = read_sheet(file)
    naming = Naming(sheet)
    for blind in (False, True):
        naming.of("ox40-full-7.4.2.img", case_blind=blind)
        naming.role("a" * 200, case_blind=blind)
    for scheme in (sheet.versions.pattern, sheet.versions.components.pattern):
        compare("7.4.1", "7.4.2", scheme)
    if not list(check_templates(sheet)):
        _asked(sheet, samples.SESSIONS[0].decode())


def _sheets() -> list[Sheet]:
    found = (msgspec.toml.decode(text, type=Sheet) for text in samples.SHEETS)
    return [sheet for sheet in found if sheet.reading.question]


_SHEETS = _sheets()


def _asked(sheet: Sheet, text: str) -> None:
    """Whatever is asked, this is the answer."""

    async def ask(question, asked, expected):
        return text

    device = FleetDevice(name="box", sheet=sheet.name)
    interview = Interview("box", sheet, WantedDigests((), {}, everything=True), NOW)
    asyncio.run(interview.run(ask))
    outcome_of(device, interview, NOW)


def _answer(file: Path) -> None:
    text = file.read_bytes().decode("utf-8", "replace")
    visible(plain(text))
    _asked(_SHEETS[len(text) % len(_SHEETS)], text)


def _learned(file: Path) -> None:
    """Learn of a session, and write and read again what was learned."""
    with suppress(SessionError):
        found = learn([read_capture(file)])
        tomllib.loads(whole(head_of("x", found), learned_of(found)))
    with suppress(ValueError):
        guesses([read_capture(file)])


def _mistakes(file: Path) -> None:
    _, wrong = mistakes_in(file)
    for error in wrong:
        assert str(error)


def _record(file: Path) -> None:
    shelf = Shelf(name="depot", at="sftp://192.0.2.1/images")
    with tempfile.TemporaryDirectory() as site:
        folder = Path(site) / "shelves"
        folder.mkdir()
        (folder / "depot.json").write_bytes(file.read_bytes())
        read_record(Path(site), shelf)


def _session(file: Path) -> None:
    sheet = _SHEETS[file.stat().st_size % len(_SHEETS)]
    interview = Interview("box", sheet, WantedDigests((), {}, everything=True), NOW)
    said = answers_in([read_capture(file)], interview)
    asyncio.run(interview.run(asking(said), asking_costs=False))


def _evidence(file: Path) -> None:
    data = file.read_bytes()
    file.write_bytes(gzip.compress(data, mtime=0))
    sheet = _SHEETS[0]
    found = read_evidence(file)
    device = FleetDevice(name="box", sheet=sheet.name)
    replay(device, sheet, WantedDigests((), {}), found)


def _raw_evidence(file: Path) -> None:
    read_evidence(file)


def _shelf(file: Path) -> None:
    cache = Cache(file.parent / "none.json", fresh=True)
    structure_of(file)
    read_shelf(file.parent, ("sha256",), cache, lambda size: None, workers=1)


def _boot_environment(file: Path) -> None:
    data = file.read_bytes()
    for read in (read_grub_env, read_u_boot_env):
        try:
            read(data)
        except BootEnvError:
            continue


def _known_hosts(file: Path) -> None:
    HostKeys(file, take_new=False).algorithms("192.0.2.1", 22)


def _kept(file: Path) -> None:
    """What a large fleet came to, as somebody left it beside the fleet."""
    (file.parent / "fleet.toml").write_bytes(samples.LARGE_FLEET)
    names_in_fleet(file.parent, "")
    known = FleetFile(file.parent)
    assert known.names is not None and known.devices(["a"]) is not None
    assert known.whole.name


def _index(file: Path) -> None:
    """Which lines are the newest, as somebody left it beside a snapshot."""
    snapshot = file.with_name("a.jsonl")
    snapshot.write_bytes(samples.SNAPSHOTS[0])
    os.utime(snapshot, ns=(samples.READ_AT, samples.READ_AT))
    names_in_index(file.parent, "")
    for name in state_of(file.parent).lines:
        state_of(file.parent, [name]).read(name)


def _advisories(file: Path) -> None:
    """What documents came to, as somebody left it beside them."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name, "advisories")
        folder.mkdir()
        document = folder / "a.json"
        document.write_bytes(samples.ADVISORIES[0])
        os.utime(document, ns=(samples.READ_AT, samples.READ_AT))
        (folder / KEPT).write_bytes(file.read_bytes())
        read_advisories(Path(name), advisory_stamps(Path(name)))


SIGNED = samples.LISTS[0]
KEY, CERTIFICATE = signing.public(signing.key()), signing.certificate()[0]
SIGNATURES = [
    signing.openpgp(SIGNED), signing.openpgp(SIGNED, armor=False), signing.cms(SIGNED),
    signing.cms(SIGNED, armor=True), signing.cms(SIGNED, "Signer", issuer="Nobody"),
]  # fmt: skip


def _keys() -> Keyring:
    """The keys of a site with a key and a certificate, which are read at once."""
    with tempfile.TemporaryDirectory() as name:
        signing.write_keys(Path(name), signing.entry(KEY), signing.entry(CERTIFICATE))
        keys = Keyring(Path(name))
        assert keys.openpgp and keys.certificates
        return keys


OUR_KEYS = _keys()


def _signature(file: Path) -> None:
    """A signature beside a list that it is of, and one that it is not of."""
    signed = file.with_name("a.md5")
    for data, of_it in ((SIGNED, True), (SIGNED + b"x", False)):
        signed.write_bytes(data)
        check = check_list(signed, OUR_KEYS, signing.NOW)
        assert check is not None and (of_it or not check.good)


def _signed_list(file: Path) -> None:
    """A list that is clear-signed: what is read of it if its signature is good was signed."""
    check = check_list(file, OUR_KEYS, signing.NOW)
    if check is not None and check.good:
        lines = [line.rstrip() for line in list_text(file).splitlines() if line.strip()]
        assert lines == [line.rstrip() for line in SIGNED.decode().splitlines() if line.strip()]
    elif has_signature(file):
        list_text(file)


def _key(file: Path) -> None:
    """A key that somebody else put where one of the site is."""
    with tempfile.TemporaryDirectory() as name:
        signing.write_keys(Path(name), signing.entry(KEY), signing.entry(CERTIFICATE))
        keys = Keyring(Path(name))
        for key in ("key-0.asc", "key-1.asc"):
            (keys.folder / key).write_bytes(file.read_bytes())
        for ask in (lambda: keys.openpgp, lambda: keys.certificates):
            with suppress(InputError):
                ask()


def _journal(file: Path) -> None:
    snapshot = file.with_name("s.jsonl")
    file.rename(snapshot.with_name("s.jsonl.unfinished"))
    journal = Journal(snapshot)
    journal.finish(())
    if snapshot.exists():
        list(read_snapshot(snapshot))


def _cache(file: Path) -> None:
    Cache(file, fresh=False).get(Path("a"), file.stat(), ("md5",))


def _texts(file: Path) -> None:
    text = file.read_bytes().decode("utf-8", "replace")
    one, _, other = text.partition("\n")
    compare(one, other)
    text_of(file, file.read_bytes())
    parse_size(text)


ANSWERS = [
    b"".join(sorted({line for line in sheet.split(b"\n") if line.strip()}))[:3000]
    for sheet in samples.SHEETS
] + samples.SESSIONS

# name → good samples, the name of the file they lie in, and what reads it.
PARSERS: dict[str, tuple[list[bytes], str, Run]] = {
    "archives": (samples.ARCHIVES, "a.img", _shelf),
    "digest lists": (samples.LISTS, "a.txt", _whole(digestlist.read)),
    "side files": (samples.SIDE_FILES, "a.img.md5", _whole(sidefile.read)),
    "tables": (samples.TABLES, "a.csv", _whole(table.read)),
    "Metalink": (samples.METALINKS, "a.meta4", _whole(metalink.read)),
    "pasted text": (samples.PASTED, "a.page", _whole(pasted.read)),
    "what an import claims": (samples.PASTED + samples.LISTS, "a.any", _import),
    "catalogs": (samples.CATALOGS, "a.json", _whole(read_catalog)),
    "snapshots": (samples.SNAPSHOTS, "a.jsonl", _snapshot),
    "journals": (samples.SNAPSHOTS, "a.jsonl", _journal),
    "fleet": (samples.FLEETS, "a.toml", _fleet),
    "fleet lists": (samples.FLEET_LISTS, "a.csv", _fleet_list),
    "lists of devices": (samples.HOSTS_TABLES, "a.csv", read_hosts),
    "hosts in groups": (samples.HOSTS, "a.ini", read_hosts),
    "hosts in YAML": (samples.HOSTS_YAML, "a.yaml", read_hosts),
    "the kept fleet": (samples.KEPT, FLEET, _kept),
    "the index": (samples.INDEXES, INDEX, _index),
    "policy": (
        samples.POLICIES,
        "policy.toml",
        lambda file: read_toml_parts(file, Policy, POLICY_FORMAT),
    ),
    "advisories": (samples.ADVISORIES, "a.json", read_csaf),
    "the kept advisories": (samples.KEPT_ADVISORIES, KEPT, _advisories),
    "product aliases": (
        [(samples.SITE / "advisories/products.toml").read_bytes()],
        "products.toml",
        lambda file: read_toml_parts(file, ProductAliases, ALIASES_FORMAT),
    ),
    "signatures": (SIGNATURES, "a.md5.sig", _signature),
    "clear-signed lists": ([signing.clear(SIGNED)], "a.md5", _signed_list),
    "keys": ([bytes(KEY), str(KEY).encode(), signing.pem(CERTIFICATE)], "key", _key),
    "the keys of a site": (
        samples.KEYS,
        "keys.toml",
        lambda file: read_toml_parts(file, SigningKeys, KEYS_FORMAT),
    ),
    "waivers": (
        samples.WAIVERS,
        "waivers.toml",
        lambda file: read_toml_parts(file, Waivers, WAIVERS_FORMAT),
    ),
    "sheets": (samples.SHEETS, "oxwick-40.toml", _sheet),
    "answers": (ANSWERS, "a.txt", _answer),
    "sessions": (samples.SESSIONS, "a.txt", _session),
    "marked sessions": (samples.MARKED, "a.txt", _learned),
    "a sheet's mistakes": (samples.SHEETS, "oxwick-40.toml", _mistakes),
    "records of shelves": (samples.RECORDS, "depot.json", _record),
    "evidence": (samples.EVIDENCE, "a.json.gz", _evidence),
    "packed evidence": (
        [gzip.compress(each, mtime=0) for each in samples.EVIDENCE],
        "a.json.gz",
        _raw_evidence,
    ),
    "boot environments": (samples.BOOT_ENVIRONMENTS, "env", _boot_environment),
    "known_hosts": (samples.KNOWN_HOSTS, "known_hosts", _known_hosts),
    "the cache": (samples.CACHES, "cache.json", _cache),
    "sizes and versions": ([b"64 MiB\n1.2", b"1.2GB\n7.4rc1", b"4096\nv9.5a"], "a", _texts),
}
assert IMPORTERS
