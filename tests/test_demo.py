"""The sample site and its tour."""

import json
import runpy
from pathlib import Path

import pytest

from conftest import Ovek
from ovek.demo import TOUR

ROOT = Path(__file__).parent.parent
TROUBLES = {
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
    "member-starts-differ": "skarn-stack",
    "saved-config-ignored": "skarn-mast",
    "next-start-older": "skarn-gate",
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
    site = Ovek(tmp_path_factory.mktemp("toured"))
    return site, site("demo", "sample").stdout


def test_the_tour_shows_each_command_as_typed_with_its_output(toured):
    _, shown = toured
    for stop in TOUR:
        assert f"$ ovek {' '.join(stop.typed)}" in shown
    assert "Tonight: 24 go, 8 no-go, 4 unclear (1 not read)." in shown


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
        if d["reload"] == "proven"
        and all(f["severity"] == "note" or f["waived"] for f in d["findings"])
    ]
    assert len(healthy) >= 5
