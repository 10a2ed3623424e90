"""Every parser, way and store is attacked somewhere: a new one that is not listed fails here."""

import asyncio
import threading
from contextlib import contextmanager
from pathlib import Path

import pytest

from hostile.agents import AGENTS, SERVERS
from hostile.parsers import PARSERS
from hostile.server import HOSTILE, LOOPBACK, SFTP, serving
from hostile.shelves import SHELVES
from hostile.shelves import TFTP as TFTP_SHELVES
from ovek.model.fleet import STORES, WAYS, Shelf
from ovek.sources import sftp as sftp_way
from ovek.sources.problem import ReadProblem
from ovek.sources.ssh import Limits
from ovek.sources.stores import fetching, store_of
from ovek.sources.stores.fetching import read_store
from ovek.sources.stores.interface import ShelfAccess
from ovek.sources.trust import HostKeys, Secrets

FILES = Path(__file__).parent.parent.parent / "src/ovek/files"
ATTACKED_WAYS = {
    "ssh": HOSTILE, "sftp": SFTP, "snmp": AGENTS, "netconf": SERVERS,
    "capture": ["sessions", "marked sessions"],  # of `PARSERS`
    "folder": ["a folder of many files"],  # test_large, and tests/test_outside
}  # fmt: skip
ATTACKED_STORES = {"http": SHELVES, "tftp": TFTP_SHELVES, "sftp": SFTP}
# Each module that reads a file, and the parsers that attack it; a text says why there is none.
READERS = {
    "advisories": ["advisories", "the kept advisories"],
    "csaf": ["advisories"],
    "annotations": "one more table of TOML, by the reader of policy and waivers",
    "backups": "names only",
    "bootenv": ["boot environments"],
    "catalog": ["catalogs", "what an import claims"],
    "defaults": "tests/test_settings",
    "evidence": ["evidence", "packed evidence"],
    "fleet": ["fleet", "fleet lists", "the kept fleet"],
    "history": "tests/test_trusted: a store that was edited, byte by byte and row by row",
    "hosts": ["lists of devices", "hosts in groups", "hosts in YAML"],
    "journal": ["journals of surveys", "journals"],
    "database": ["the kept fleet", "the index"],
    "fingerprint": ["the index"],
    "newest": ["the index"],
    "cache_content": "tests/test_cache_content",
    "packages": "tests/test_packages",
    "cache": "tests/test_trusted and tests/test_again",
    "lock": "what is said of a holder, in tests/test_outside",
    "marks": ["marked sessions"],
    "osrelease": ["boot environments"],
    "safe_open": "opens, and reads nothing",
    "reports": "tests/test_report: a page that is none",
    "shelves": ["records of shelves"],
    "sheets": ["sheets"],
    "survey_tries": "tests/test_survey: one that cannot be read counts as none",
    "site": ["fleet", "policy", "waivers", "sheets"],
    "snapshot": ["snapshots"],
    "spool": "of its own making, in a folder of its own",
    "state": ["snapshots"],
    "structure": ["archives"],
    "toml_lines": ["fleet", "policy", "waivers", "sheets"],
    "decode": ["fleet", "policy", "waivers", "sheets"],
    "unpacked": ["archives"],
    "whereabouts": ["a sheet's mistakes"],
    "signatures/asn1": ["signatures"],
    "signatures/check": ["signatures", "clear-signed lists"],
    "signatures/check_cache": "tests/test_signatures",
    "signatures/clear": ["clear-signed lists"],
    "signatures/cms": ["signatures"],
    "signatures/keyring": ["keys", "the keys of a site"],
    "signatures/openpgp": ["signatures"],
    "signatures/record": "tests/test_signatures",
    "importers/digestlist": ["digest lists"],
    "importers/metadocument": ["Metalink"],
    "importers/metalink": ["Metalink"],
    "importers/pasted": ["pasted text"],
    "importers/sidefile": ["side files"],
    "importers/table": ["tables"],
}
WRITE = {
    "errors", "names", "schema", "result_schema", "atomic", "importers/interface",
    "importers/known", "signatures/names",
}  # fmt: skip


def test_every_way_and_every_store_is_attacked():
    assert set(ATTACKED_WAYS) == set(WAYS)
    assert set(ATTACKED_STORES) == set(STORES.values())
    assert all(ATTACKED_WAYS.values()) and all(ATTACKED_STORES.values())


def test_every_reader_of_files_is_attacked_or_says_why_not():
    there = {str(file.relative_to(FILES).with_suffix("")) for file in FILES.rglob("*.py")}
    there = {name for name in there if not name.endswith("__init__")}
    assert there == set(READERS) | WRITE
    named = {each for told in READERS.values() if not isinstance(told, str) for each in told}
    assert named <= {*PARSERS, "journals of surveys"}


@contextmanager
def on_a_thread(*names):
    """Serve these by SSH, beside whoever asks: their ports, and their host key."""
    told, over = threading.Event(), threading.Event()
    found = {}

    async def serve():
        async with serving(*names) as (ports, key):
            found.update(ports=ports, key=key.export_public_key("openssh").decode())
            told.set()
            while not over.is_set():
                await asyncio.sleep(0.05)

    thread = threading.Thread(target=lambda: asyncio.run(serve()), daemon=True)
    thread.start()
    assert told.wait(20)
    try:
        yield found["ports"], found["key"]
    finally:
        over.set()
        thread.join(10)


@pytest.mark.parametrize("name", SFTP)
def test_a_folder_over_sftp_that_is_hostile_ends(name, tmp_path, monkeypatch):
    monkeypatch.setattr(fetching, "_TRIES", 1)
    monkeypatch.setattr(sftp_way, "_MOST_FILES", 2_000)
    with on_a_thread(name) as (ports, key):
        hosts = tmp_path / "known_hosts"
        hosts.write_text(f"[{LOOPBACK}]:{ports[name]} {key}")
        from ovek.model.fleet import Login

        login = Login(name="depot", host=LOOPBACK, port=ports[name], user="reader")
        access = ShelfAccess(
            keys=HostKeys(hosts, take_new=False),
            secrets=Secrets(lambda: "harbour"),
            login=login,
            limits=Limits(connect=2.0, login=2.0, answer=1.0, device=5.0),
        )
        at = f"sftp://{LOOPBACK}:{ports[name]}/f"
        store = store_of(Shelf(name="depot", at=at), tmp_path, access)
        try:
            files = store.files()
            found = list(read_store(store, files, ("sha256",), tmp_path / "spool", wait=0.01))
        except (ReadProblem, TimeoutError, ConnectionError) as problem:
            assert "defect" not in str(problem)
            return
        finally:
            store.close()
        assert all("defect" not in (one.problem or "") for one in found)
