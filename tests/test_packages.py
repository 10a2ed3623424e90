"""What installed packages bring is used, and what is wrong with one is told as its own."""

import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

EXAMPLE = Path(__file__).parent.parent / "docs/example-package"
DEVICE = '[[device]]\nname = "buoy"\nsheet = "harbour-buoy"\naccess = ["logbook"]\nhost = "b1"\n'


class Installed:
    """The example package in a folder of its own on Python's path, and Ovek run with it."""

    def __init__(self, folder: Path, site: Path) -> None:
        self.folder, self.site = folder, site

    def write(self, name: str, text: str) -> None:
        file = self.folder / name
        file.write_text(text)
        os.utime(self.folder)  # as an installation does

    def __call__(self, *typed: str) -> subprocess.CompletedProcess[str]:
        paths = os.pathsep.join([str(self.folder), *sys.path])
        done = subprocess.run(
            [sys.executable, "-m", "ovek", *typed], cwd=self.site, capture_output=True, text=True,
            env={**os.environ, "PYTHONPATH": paths, "XDG_CACHE_HOME": str(self.site / "cache")},
            check=False,
        )  # fmt: skip
        assert "Traceback" not in done.stderr, done.stderr
        return done


@pytest.fixture(scope="module")
def wheel(tmp_path_factory) -> Path:
    """The wheel that pip makes of the example."""
    folder = tmp_path_factory.mktemp("wheel")
    done = subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "-w", str(folder), str(EXAMPLE)],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return next(folder.glob("*.whl"))


@pytest.fixture
def installed(wheel, tmp_path, ovek) -> Installed:
    folder = tmp_path / "packages"
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(folder)
    ovek.write("fleet.toml", (ovek.folder / "fleet.toml").read_text() + DEVICE)
    return Installed(folder, ovek.folder)


def entry_points(installed: Installed, text: str) -> None:
    (file,) = installed.folder.glob("*.dist-info/entry_points.txt")
    file.write_text(text)
    os.utime(installed.folder)


def test_each_of_what_the_example_brings_is_used(installed, ovek):
    assert "harbour-no-serial" in installed("rules").stdout
    ovek.write("logbook/b1/read-plate.txt", "model BUOY-2, version 1.4\n")
    read = installed("survey", "buoy")
    assert "buoy" in read.stdout, read.stderr
    told = json.loads(installed("audit", "buoy", "--format", "json").stdout)["devices"][0]
    assert (told["model"], told["running"]) == ("BUOY-2", "1.4")
    assert installed("audit", "sw", "--format", "names").stdout == "sw\tgo\n"
    ovek.write("new.txt", f"# tide list\nbuoy-1.5.img = sha256 {'a' * 64}\nnonsense\n")
    taken = installed("catalog", "import", "new.txt", "--publisher", "Harbour")
    assert taken.stdout.startswith("new.txt:\nRead as tide list: 1 release")
    assert "line 3: is no entry" in taken.stderr + taken.stdout
    assert "buoy-1.5.img" in installed("catalog", "list").stdout


def test_its_rule_finds_and_is_turned_off_and_waived_as_any_other(installed, ovek):
    snapshot = ovek.folder / "snapshots/now.jsonl"
    snapshot.write_text(snapshot.read_text().replace('"device":"sw"', '"device":"arle-1"'))
    ovek.fleet("arle-1")

    def rules() -> list[str]:
        told = json.loads(installed("audit", "arle-1", "--format", "json").stdout)
        return [one["rule"] for one in told["devices"][0]["findings"]]

    assert "harbour-no-serial" in rules()
    assert "harbour-no-serial" in rules()  # from what is kept
    policy = 'format = "ovek.policy/1"\n[severity]\nharbour-no-serial = "off"\n'
    ovek.write("policy.toml", policy)
    assert "harbour-no-serial" not in rules()
    assert installed("policy", "check").returncode == 0


def test_without_the_package_nothing_of_it_is_there(ovek):
    assert "harbour" not in ovek("rules").stdout
    assert "is not a valid choice" in ovek("audit", "--format", "names", exits=2).stderr
    fleet = (ovek.folder / "fleet.toml").read_text()
    ovek.write("fleet.toml", fleet + DEVICE)
    assert "no access method 'logbook'; use: ssh" in ovek.refuses("audit")


@pytest.mark.parametrize(
    ("name", "text", "typed", "told"),
    [
        ("rules", "1 / 0\n", "audit", "cannot be imported (ZeroDivisionError"),
        ("rules", "raise SystemExit(7)\n", "audit", "cannot be imported (SystemExit: 7)"),
        ("tide_list", "IMPORTER = 7\n", "catalog import new.txt --publisher X", "is int, not an"),
        ("names", "names = 7\n", "audit --format names", "is no function of a result"),
        ("logbook", "import nothing_such\n", "survey buoy", "cannot be imported (ModuleNotFound"),
    ],
)  # fmt: skip
def test_a_package_that_is_broken_is_named(installed, ovek, name, text, typed, told):
    ovek.write("new.txt", "# tide list\n")
    installed.write(f"ovek_harbour/{name}.py", text)
    done = installed(*typed.split())
    assert told in done.stderr + done.stdout
    assert "ovek-harbour" in done.stderr + done.stdout


def test_a_rule_that_fails_is_reported_and_the_others_still_run(installed, ovek):
    before = json.loads(installed("audit", "sw", "--format", "json").stdout)["devices"][0]
    installed.write(
        "ovek_harbour/rules.py",
        "from ovek.engine.rules import rule\n"
        "@rule('harbour-bad', 'note', 'Because.', 'Do it')\n"
        "def bad(subject):\n    '''Fails.'''\n    yield 1 / 0\n",
    )
    after = json.loads(installed("audit", "sw", "--format", "json").stdout)["devices"][0]
    new = [one for one in after["findings"] if one not in before["findings"]]
    assert [one["rule"] for one in new] == ["rule-failed"]
    assert "the rule harbour-bad failed (ZeroDivisionError" in new[0]["seen"]
    assert [one for one in before["findings"] if one not in after["findings"]] == []


def test_a_rule_replaces_none_and_speaks_for_none_that_there_is_not(installed):
    head = "from ovek.engine.rules import rule\n"
    tail = "\ndef one(subject):\n    '''One.'''\n    return iter(())\n"
    installed.write("ovek_harbour/rules.py", f"{head}@rule('stranded', 'note', 'A.', 'B'){tail}")
    assert "brings the rule 'stranded', which exists already" in installed("audit").stderr
    text = f"{head}@rule('new', 'note', 'A.', 'B', 'no-such'){tail}"
    installed.write("ovek_harbour/rules.py", text)
    assert "speaks for 'no-such', which is no rule" in installed("audit").stderr


def test_an_importer_that_fails_costs_its_file(installed, ovek):
    ovek.write("new.txt", "# tide list\n")
    file = installed.folder / "ovek_harbour/tide_list.py"
    installed.write("ovek_harbour/tide_list.py", file.read_text().replace("number == 1", "1 / 0"))
    told = installed("catalog", "import", "new.txt", "--publisher", "X")
    assert "failed on new.txt (ZeroDivisionError" in told.stderr and told.returncode == 2


def test_what_was_found_is_kept_only_while_nothing_is_installed_or_removed(installed):
    assert "harbour-no-serial" in installed("rules").stdout
    kept = installed.site / "cache/ovek/packages.json"
    assert "ovek-harbour" in kept.read_text()
    entry_points(installed, "")
    assert "harbour-no-serial" not in installed("rules").stdout
    kept.write_text("[]")
    assert installed("rules").returncode == 0
    kept.chmod(0o666)
    found = '"found": [["ovek.rules", "x", "nothing_such", "", "x", "1"]]'
    kept.write_text(kept.read_text().replace('"found": []', found))
    assert installed("rules").returncode == 0


def test_a_site_brings_no_package(installed, ovek):
    """Not even where Python itself would look in the folder that it runs in."""
    for file in installed.folder.iterdir():
        file.rename(ovek.folder / file.name)
    assert "harbour-no-serial" not in installed("rules").stdout
