"""Fixtures: the built program on files in a temporary folder."""

import gc
import json
import os
import subprocess
import tempfile
from pathlib import Path

import msgspec
import pytest
from hypothesis import settings

import zygote
from builders import CATALOG, device, image, member
from ovek.files.snapshot import write_snapshot
from ovek.model.snapshot import Device
from servers import server, snmp, tftp, web

__all__ = ["server", "snmp", "tftp", "web"]

collect_ignore = ["hostile/search.py"]  # needs atheris, which no test does

gc.set_threshold(50_000)  # what was collected stays: it need not be looked through all the time
os.environ.pop("COLUMNS", None)  # whoever starts the tests may have told a width
_CACHE = tempfile.TemporaryDirectory(prefix="ovek-cache-")
os.environ["XDG_CACHE_HOME"] = _CACHE.name  # what is kept is the tests' own
# The machine may be slow at any moment; no test is about time.
TIMES = int(os.environ.get("OVEK_CASES", "1"))
settings.register_profile("ovek", deadline=None, max_examples=25 * TIMES)
settings.register_profile("quick", deadline=None, max_examples=20)
settings.load_profile("quick" if "OVEK_QUICK" in os.environ else "ovek")

SHEET = """
format = "ovek.sheet/1"
name = "switch"
title = "A switch"
vendor = "Nobody"
models = ["SW*"]
[boot]
layout = "files"
fallback = "none"
on_bad_image = "next"
mode = "listed"
[images]
names = ['sw-(?P<version>[0-9][0-9a-z.]*)\\.img']
[roles]
leftover = ["*.partial"]
configuration = ["*.settings"]
"""


class Ovek:
    """A site in a temporary folder, and the built program run on it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._held: dict[str, list[str]] = {}
        self._fleet = ""

    def __call__(self, *typed: str, exits: int | None = 0) -> subprocess.CompletedProcess[str]:
        """Run `ovek` in the site, as typed; check how it ends and that it never traces back."""
        code, *said = zygote.run(self.folder, *typed)
        told = [text.decode() for text in said]
        done = subprocess.CompletedProcess(["ovek", *typed], code, *told)
        assert "Traceback" not in done.stderr, done.stderr
        assert exits is None or done.returncode == exits, (done.stdout, done.stderr)
        return done

    def json(self, *typed: str, exits: int = 0) -> dict:
        return json.loads(self(*typed, "--format", "json", exits=exits).stdout)

    def refuses(self, *typed: str) -> str:
        """The one message of a command that ends with exit code 2 and says nothing else."""
        done = self(*typed, exits=2)
        assert done.stdout == ""
        assert len(done.stderr.strip().splitlines()) == 1, done.stderr
        return done.stderr

    def write(self, name: str, text: str | bytes) -> Path:
        file = self.folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(text.encode() if isinstance(text, str) else text)
        return file

    def snapshot(self, *devices: Device, name: str = "now.jsonl") -> None:
        """Write a snapshot; the fleet is those of all snapshots, unless a test wrote its own."""
        write_snapshot(self.folder / "snapshots" / name, devices)
        self._held[name] = [device.device for device in devices]
        file = self.folder / "fleet.toml"
        if not file.exists() or file.read_text() == self._fleet:
            self.fleet(*dict.fromkeys(each for held in self._held.values() for each in held))

    def fleet(self, *names: str) -> None:
        """Write a fleet of devices of these names."""
        listed = [f'[[device]]\nname = {json.dumps(each)}\nsheet = "switch"\n' for each in names]
        self._fleet = "".join(['name = "Test"\n', *listed])
        self.write("fleet.toml", self._fleet)


@pytest.fixture
def ovek(tmp_path: Path) -> Ovek:
    """A site with one healthy device `sw` that runs and starts 1.0."""
    site = Ovek(tmp_path)
    site.write("sheets/switch.toml", SHEET)
    releases = [msgspec.to_builtins(one.release) for one in CATALOG]
    catalog = {"format": "ovek.catalog/1", "publisher": "Nobody", "releases": releases}
    site.write("catalog/list.json", json.dumps(catalog, indent=1))
    healthy = device(member(image("1.0"), boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img")
    site.snapshot(healthy)
    return site
