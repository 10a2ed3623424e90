"""The sample site and its tour."""

import json
import os
import re
import runpy
import shutil
from pathlib import Path

import pytest
from filelock import FileLock

from conftest import Ovek
from ovek.demo import TOUR

ROOT = Path(__file__).parent.parent
TROUBLES = {
    "running-affected": "heron-bridge",
    "backup-before-change": "holm-office",
    "boot-target-missing": "arle-quay",
    "bank-bad": "arle-dist-2",
    "boot-target-broken": "brack-core",
    "boot-order-unsaved": "brack-hall",
    "stranded": "brack-pier",
    "image-unlisted": "holm-ramp",
    "free-space-low": "gannet-bridge",
    "image-unverified": "holm-dist",
    "bank-empty": "holm-dist",
    "facts-missing": "petrel-bridge",
    "running-image-gone": "tern-bridge",
    "member-versions-differ": "arle-stack",
    "no-fallback": "arle-stack",
    "release-not-target": "arle-quay",
    "image-weakly-proven": "arle-dist-1",
    "trial-not-committed": "brack-edge",
    "no-room-for-target": "holm-ramp",
    "image-second-copy": "gannet-bridge",
    "reload-pending": "tern-bridge",
    "member-swapped": "brack-stack",
    "clock-off": "heron-bridge",
    "image-other-variant": "holm-gate",
    "upgrade-needs-step": "brack-slip",
    "image-altered": "gannet-bridge",
    "member-boots-differ": "skarn-stack",
    "saved-config-ignored": "skarn-mast",
    "next-boot-older": "skarn-gate",
    "pair-differs": "skarn-gate",
}
# What is planned for devices of which each stands in a way of its own.
SET, BRING = ["set-order", "save"], ["copy", "check-digest"]
PLANS = {
    "skarn-edge": [
        "delete", "delete", *BRING, "set-once", "reload", "commit",
    ],  # a pair whose new image is larger
    "skarn-dist": [
        "write-bank", "check-digest", "set-default", "save", "reload", "copy-bank",
    ],  # both banks are to hold the same
    "skarn-kiosk": [*BRING, *BRING, "set-component", *SET, "reload", "delete"],
    "skarn-stack": [*BRING, *SET, "reload"],  # half prepared
    "skarn-shed": [*BRING, *SET, "reload"],  # from the stick
    "skarn-mast": ["heed-config"],
    "skarn-deck": [*BRING, *BRING, *SET, *SET, "reload"],  # each revision its own file
    "skarn-gate": ["commit", "commit"],  # both supervisors run the trial
    "heron-bridge": [],  # only the running image could go
}  # fmt: skip


def test_the_sample_site_is_what_its_script_writes(tmp_path):
    script = runpy.run_path(str(ROOT / "scripts/make_sample_site.py"))
    script["write_site"](tmp_path)
    packaged = ROOT / "src/ovek/demo/site"
    written = {f.relative_to(tmp_path): f.read_bytes() for f in tmp_path.rglob("*.*")}
    there = {f.relative_to(packaged): f.read_bytes() for f in packaged.rglob("*.*")}
    assert written == there, "run scripts/make_sample_site.py"


@pytest.fixture(scope="module")
def toured(tmp_path_factory):
    """A site in a folder whose `sample` was written and toured, and what was shown."""
    own = tmp_path_factory.getbasetemp()
    first = (own.parent if "PYTEST_XDIST_WORKER" in os.environ else own) / "first-tour"
    with FileLock(f"{first}.lock"):  # it is toured once, whichever worker comes first
        if not (first / "shown").exists():
            first.mkdir()
            (first / "shown").write_text(Ovek(first)("demo", "sample").stdout)
    folder = tmp_path_factory.mktemp("toured")
    shutil.copytree(first, folder, dirs_exist_ok=True)
    return Ovek(folder), (first / "shown").read_text()


# What each stop of the tour says of the output above it, by number of the stop: each pattern is
# found in that output, spaces and line ends alike, as often as is said.
SAID: dict[int, dict[str, int]] = {
    1: {r"1 partly read \(\S+-bridge\), 1 not read \(\S+-bridge\)": 1},
    2: {r"^1 device read: gannet-bridge\.": 1},
    3: {r"worse gannet-bridge \S+: was proven, now altered": 1, r"\(1 changed, 3 the same\)": 1},
    4: {r"no-go \S+ nothing bootable": 2, r"FINDINGS": 2, r"DANGER in plan": 2, r"plan: DANGER": 2},
    5: {r"Copy ox40-full-7\.4\.1\.img to": 1, r"Install firmware \S+ \(ldr-": 1,
        r"DANGER: if the power fails": 1, r"2 reloads": 1,
        r"target 7\.4\.2; next boot now: 7\.2\.5": 1},
    6: {r"STEPS LEFT .*NEXT STEP": 1, r"WAVES Steps that need no reload": 1},
    7: {r"order: flash:ox40-full-7\.4\.2\.img is missing: the file does not exist": 1,
        r"first-found: flash:ox40-full-7\.2\.5\.img boots": 1, r"running 7\.4\.1": 2},
    8: {r"default-bank: bank:2 is altered": 1, r"this loader stops at a bad image": 1,
        r"boot bank:1 \(\S+ proven\) by hand": 1},
    9: {r"next boot 7\.4\.2 from \S+, proven by": 1,
        r"without the what-if: proven, next boot 7\.4\.1": 1},
    10: {r"1 done, 3 not done": 1, r"arle-core .*? done: running 7\.4\.2": 1,
         r"member 3 NOT DONE": 1},
    11: {r"[BC] bad ": 2, r"A good catalog ": 1, r"no proven copy on any shelf": 1},
    12: {r"delete 4 files; that is enough": 1, r"flash:\S+ 1 \S+ MiB": 4,
         r"KEEP .*running; next boot; in the boot order": 1},
    13: {r"delete 2 files": 1, r"crash file, not used": 1, r"leftover, not used": 1,
         r"STOP: there is no upgrade path": 1},
    14: {r"16 already have the image, 19 have or can make space": 1,
         r"2 have too little space": 1, r"--may-drop running would do": 2},
}  # fmt: skip


def test_the_tour_shows_each_command_as_typed_with_its_output(toured):
    _, shown = toured
    for stop in TOUR:
        assert f"$ ovek {' '.join(stop.typed)}" in shown
    assert re.search(r"36 devices, as of .* UTC: 24 go, 8 no-go, 4 unclear", shown)


@pytest.mark.parametrize("number", range(1, len(TOUR) + 1))
def test_what_a_stop_says_of_its_output_is_in_that_output(toured, number):
    _, shown = toured
    stop = re.split(r"── \d+ of \d+  \$.*\n", shown)[number].partition("  → ")[0]
    words = " ".join(stop.split())
    assert {said: len(re.findall(said, words)) for said in SAID[number]} == SAID[number]


def test_devices_that_stand_in_a_way_of_their_own_have_the_plan_for_it(toured):
    ovek, _ = toured
    told = ovek.json("runbook", "--site", "sample", exits=1)["devices"]
    plans = {one["device"]: [step["do"]["change"] for step in one["steps"]] for one in told}
    assert {name: plans[name] for name in PLANS} == PLANS
    (left,) = [one["open"] for one in told if one["device"] == "heron-bridge"]
    assert any("--may-drop running (DANGER" in each["words"] for each in left)


def test_the_demo_writes_nothing_over_what_is_there(ovek):
    ovek.write("mine/letter.txt", "dear")
    assert "empty folder" in ovek.refuses("demo", "mine")
    assert [f.name for f in (ovek.folder / "mine").iterdir()] == ["letter.txt"]


def test_the_sample_fleet_has_every_planted_trouble_and_healthy_devices(toured):
    ovek, _ = toured
    audit = json.loads(ovek("audit", "--site", "sample", "--format", "json", exits=1).stdout)
    found = {(f["rule"], d["device"]) for d in audit["devices"] for f in d["findings"]}
    assert set(TROUBLES.items()) <= found
    assert {rule for rule, _ in found} == set(TROUBLES)
    healthy = [
        d
        for d in audit["devices"]
        if d["next_boot"] == "proven"
        and all(f["severity"] == "note" or f["waived"] for f in d["findings"])
    ]
    assert len(healthy) >= 5
