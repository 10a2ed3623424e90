"""Inputs that are large on purpose: what grows faster than they do would not end, or not fit.

The guard is far above what each takes; it is there for what never ends.
"""

import json
import os
import subprocess
import sys

import msgspec
import pytest

from hostile.parsers import ALLOWED, PARSERS
from hostile.trial import TooLongError, guarded
from ovek.model.pattern import compiled
from ovek.model.snapshot import Device
from ovek.sources.clean import plain

N = 200_000
DIGEST = "a" * 32

LARGE = {
    "a page of one long name": ("pasted text", b"a-" * N + b"\n" + b"a.b-" * N),
    "a page of names": ("pasted text", b"a.img " * N + b"size 1234"),
    "a page of brackets": ("pasted text", b"(" * N + b"x.img" + b")" * N),
    "a page of sizes": ("pasted text", b"size 12,345 " * N),
    "a page of versions": ("pasted text", b"version 1" + b"." * N),
    "a tagged line of brackets": ("digest lists", b"MD5 (" + b") = x" * N + b" y\n"),
    "a line of blanks": ("digest lists", b"x" + b" " * N + b"\n"),
    "a line of escapes": ("digest lists", b"\\" + DIGEST.encode() + b" *" + b"\\\\" * N + b"\n"),
    "a Metalink of entities": (
        "Metalink",
        b'<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="a"><version>'
        + b"&#65;" * N
        + b"</version></file></metalink>",
    ),
    "a deep Metalink": ("Metalink", b'<a xmlns="x">' * N),
    "a table of commas": ("tables", b"name," + b"," * N + b"\n" + b"," * N),
    "a side file of colons": ("side files", b"a:" * N),
    "a catalog of brackets": ("catalogs", b'{"format": "ovek.catalog/1", "releases": ' + b"[" * N),
    "a snapshot of brackets": ("snapshots", b'{"device": ' + b"[" * N),
    "a policy of brackets": ("policy", b"a = " + b"[" * N),
    "a policy of digits": ("policy", b"a = " + b"9" * N),
    "a GRUB block of backslashes": (
        "boot environments",
        b"# GRUB Environment Block\n" + b"\\\n" * N,
    ),
    "an answer of backspaces": ("answers", b"a" * N + b"\b" * N + b"b\b" * N),
    "an answer of returns": ("answers", b"a" * N + b"\rb" * N),
    "an answer of escapes": ("answers", b"\x1b[" * N + b"\x1b[0" * N),
    "a session of prompts": ("sessions", b"arle-core> x\n" * N),
}


@pytest.mark.parametrize("what", LARGE)
def test_a_large_input_ends(what, tmp_path):
    name, data = LARGE[what]
    _, file_name, run = PARSERS[name]
    file = tmp_path / file_name
    file.write_bytes(data)
    with guarded(30.0):
        try:
            run(file)
        except ALLOWED:
            pass
        except TooLongError:
            pytest.fail("it does not end")


def test_a_path_told_twice_among_many_is_named_and_does_not_hold_anybody_up():
    files = [{"path": f"f{at}"} for at in range(N)] + [{"path": "f7"}]
    volume = {"name": "flash", "files": files}
    line = {
        "format": "ovek.snapshot/1",
        "device": "x",
        "sheet": "s",
        "taken_at": "2026-01-01T00:00:00Z",
        "members": [{"id": "1", "volumes": [volume]}],
    }
    with guarded(30.0), pytest.raises(msgspec.ValidationError, match="'f7' is listed twice"):
        msgspec.json.decode(json.dumps(line), type=Device)


def test_what_backspaces_and_returns_leave_is_as_before():
    assert plain("abc\b\bx\n\b\by") == "ax\ny"
    assert plain("abcdef\rxy\rz\nq\r") == "zycdef\nq"
    assert plain("a\r\nb") == "a\nb"


def test_a_pattern_that_runs_away_elsewhere_does_not_here():
    with guarded(10.0):
        assert compiled("(a+)+").fullmatch("a" * N + "!") is None


PEAK = """
import os, subprocess, sys
process = subprocess.Popen(sys.argv[2:], cwd=sys.argv[1], stdout=subprocess.DEVNULL)
_, status, usage = os.wait4(process.pid, 0)
print(os.waitstatus_to_exitcode(status), usage.ru_maxrss * 1024)
"""


def peak(folder, *typed: str) -> int:
    """The most memory in bytes that `ovek` takes, once as typed."""
    command = [sys.executable, "-c", PEAK, str(folder), sys.executable, "-m", "ovek", *typed]
    environment = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache")}
    done = subprocess.run(command, capture_output=True, encoding="utf-8", env=environment)
    code, most = done.stdout.split()
    assert int(code) in (0, 1, 3), done.stderr
    return int(most)


def test_a_folder_of_many_files_takes_little_memory(ovek):
    for at in range(20_000):
        file = ovek.folder / f"stick/d{at // 1000}/log-file-{at}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.touch()
    ovek.write(
        "fleet.toml",
        'name = "x"\n[[device]]\nname = "st"\nsheet = "switch"\naccess = ["folder"]\n'
        'folder = "stick"\n',
    )
    # A tenth of 200,000 files, which may take 300 MiB in all.
    assert peak(ovek.folder, "survey") < 100 * 2**20
    assert peak(ovek.folder, "shelf", "stick") < 100 * 2**20


def test_a_long_line_of_a_snapshot_takes_a_small_multiple_of_its_size(ovek):
    files = [{"path": f"folder/file-{at:07}.log", "size": at} for at in range(200_000)]
    line = {
        "format": "ovek.snapshot/1",
        "device": "sw",
        "sheet": "switch",
        "taken_at": "2026-01-01T00:00:00Z",
        "members": [{"id": "1", "volumes": [{"name": "flash", "files": files}]}],
    }
    size = len(ovek.write("snapshots/now.jsonl", json.dumps(line)).read_bytes())
    base = peak(ovek.folder, "audit", "-h")
    for typed in (["audit"], ["bootwalk"], ["cleanup", "--free", "1MiB"]):
        assert peak(ovek.folder, *typed) < base + 6 * size + 30 * 2**20, typed
