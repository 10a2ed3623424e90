"""Which devices a command looks at: names, globs and --where, the same everywhere."""

import pytest

from builders import device, image, member
from ovek.model.snapshot import Hardware


def sw(name, **more):
    running = more.pop("running", "1.0")
    place = f"flash:sw-{running or '1.0'}.img"
    files = (image("1.0"), image("2.0"))
    return device(member(*files, boots=(place,)), device=name, place=place, running=running, **more)


@pytest.fixture
def fleet(ovek):
    """Four devices in two places, one of which was never read."""
    ovek.snapshot(
        sw("core-1", running="2.0", hardware=Hardware(model="SW20")),
        sw("core-2"),
        sw("edge-1", running=None),
    )
    rows = {"core-1": ("North", "core"), "core-2": ("South", "core"), "edge-1": ("North", "edge"),
            "edge-2": ("South", "edge")}  # fmt: skip
    ovek.write("fleet.toml", 'name = "Test"\n' + "".join(
        f'[[device]]\nname = "{name}"\nsheet = "switch"\nsite = "{site}"\nrole = "{role}"\n'
        for name, (site, role) in rows.items()))  # fmt: skip
    return ovek


def named(ovek, *typed, key="devices", exits=None):
    import json

    made = json.loads(ovek(*typed, "--format", "json", exits=exits).stdout)
    read = {one["device"] for one in made[key] if one["device"] is not None}
    return sorted(read | {one["device"] for one in made.get("not_read", ())})


WHERE = {
    "site=North": ["core-1", "edge-1"],
    "site=north": ["core-1", "edge-1"],
    "site!=North": ["core-2", "edge-2"],
    "role=core": ["core-1", "core-2"],
    "role=c*": ["core-1", "core-2"],
    "site=North,South": ["core-1", "core-2", "edge-1", "edge-2"],
    "sheet=switch": ["core-1", "core-2", "edge-1", "edge-2"],
    "model=SW10": ["core-2", "edge-1"],
    "model=unknown": ["edge-2"],
    "version=2.0": ["core-1"],
    "version!=2.0": ["core-2", "edge-1", "edge-2"],
    "version=unknown": ["edge-1", "edge-2"],
    "answer=go": ["core-1", "core-2", "edge-1"],
    "answer=unclear": ["edge-2"],
    "answer!=go": ["edge-2"],
}


@pytest.mark.parametrize("told", WHERE)
def test_where_selects_by_what_is_known(fleet, told):
    assert named(fleet, "audit", "--where", told) == WHERE[told]


def test_several_wheres_are_and(fleet):
    assert named(fleet, "audit", "--where", "site=North", "--where", "role=edge") == ["edge-1"]


def test_names_and_globs_are_or_and_where_narrows_them(fleet):
    assert named(fleet, "audit", "core-1", "edge-*") == ["core-1", "edge-1", "edge-2"]
    assert named(fleet, "audit", "*-1", "--where", "role=core") == ["core-1"]


@pytest.mark.parametrize(
    ("typed", "key"),
    [
        (["bootwalk"], "devices"),
        (["runbook"], "devices"),
        (["cleanup", "--free", "1MiB"], "plans"),
        (["cleanup", "--free", "1MiB", "--whole-fleet"], "plans"),
        (["compare", "now"], "devices"),
        (["where", "1.0"], "copies"),
    ],
)
def test_every_command_selects_alike(fleet, typed, key):
    assert named(fleet, *typed, "*-1", "--where", "role=core", key=key) == ["core-1"]
    assert named(fleet, *typed, "--where", "site=South", key=key) == ["core-2", "edge-2"]


def test_a_survey_reads_only_what_is_selected(fleet):
    fleet.write("fleet.toml", (fleet.folder / "fleet.toml").read_text())
    made = fleet.json("survey", "--where", "site=South", "--where", "role=edge", exits=3)
    assert [one["device"] for one in made["devices"]] == ["edge-2"]
    assert made["devices"][0]["site"] == "South"


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        (["core1"], "Did you mean 'core-1'?"),
        (["z*"], "has no device 'z*'"),
        (["--where", "site=Nroth"], "Did you mean 'North'?"),
        (["--where", "version=7"], "There are: 1.0, 2.0, unknown"),
        (["--where", "stie=North"], "did you mean 'site'?"),
        (["--where", "site"], "use e.g."),
        (["--where", "answer=yes"], "answers are no-go, unclear, go"),
    ],
)
def test_what_means_no_device_is_told_with_the_nearest(fleet, typed, told):
    done = fleet("audit", *typed, exits=2)
    assert told in " ".join(done.stderr.split())
    assert done.stdout == ""


def test_a_device_outside_the_selection_is_never_shown(fleet):
    for typed in (["audit"], ["bootwalk"], ["runbook"], ["compare", "now"]):
        shown = fleet(*typed, "--where", "site=North", exits=None).stdout
        assert "core-2" not in shown
        assert "edge-2" not in shown
    told = " ".join(fleet("audit", "--where", "site=North", exits=None).stdout.split())
    assert "selected: --where site=North" in told


def test_the_place_that_the_fleet_file_tells_counts_before_that_of_an_old_snapshot(fleet):
    fleet.snapshot(sw("core-1", site="Elsewhere"), name="now.jsonl")
    assert named(fleet, "audit", "core-1", "--where", "site=North") == ["core-1"]
    assert fleet.json("audit", "core-1")["devices"][0]["site"] == "North"


def test_a_snapshot_named_as_a_device_is_told_how_to_name_it(fleet):
    told = fleet("compare", "now", "now.jsonl", exits=2).stderr
    assert "write --to now" in " ".join(told.split())
