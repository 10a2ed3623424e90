"""An audit in every form: CSV, Markdown, JUnit, by rule and by image, and on several cores."""

import csv
import io
import json
from xml.etree import ElementTree

import pytest

from builders import NOW, ONE, device, image, member
from ovek.app import runner
from ovek.app.answering import ANSWERS
from ovek.app.devices import Devices
from ovek.app.runner import each_part
from ovek.app.work import Work
from ovek.files.site import Site


@pytest.fixture
def troubled(ovek):
    """Three devices: two with the same altered image, one that would not start."""
    altered = [image("1.0"), image("2.0", content="x")]
    ovek.snapshot(
        device(member(*altered, boots=(ONE,)), place=ONE, device="=a|b"),
        device(member(*altered, boots=(ONE,)), place=ONE, device="two"),
        device(member(boots=(ONE,)), place=ONE, device="three\x1b[31m"),
    )
    return ovek


def test_csv_has_one_finding_a_row_and_no_cell_that_a_spreadsheet_runs(troubled):
    text = troubled("audit", "--format", "csv", exits=1).stdout
    rows = list(csv.DictReader(io.StringIO(text)))
    assert {row["rule"] for row in rows} >= {"image-altered", "stranded"}
    assert rows[0]["device"] == "'=a|b"
    assert "\x1b" not in text


def test_markdown_escapes_what_would_be_marks(troubled):
    text = troubled("audit", "--format", "markdown", exits=1).stdout
    assert text.startswith("# 3 devices, as of 2026-03-02 21:14 UTC: 2 go, 1 no-go, 0 unclear.")
    assert "| =a\\|b |" in text
    by_rule = troubled("audit", "--format", "markdown", "--group-by", "rule", exits=1).stdout
    assert "## image-altered (warning; 2 findings, 2 devices)" in by_rule


def test_junit_fails_at_the_threshold_and_skips_what_is_waived(troubled):
    tree = ElementTree.fromstring(troubled("audit", "--format", "junit", exits=1).stdout)
    assert tree.get("failures") == "2", "the finding, and the answer that rests on it"
    assert [suite.get("name") for suite in tree][:2] == ["=a|b", "two"]
    typed = ("audit", "--format", "junit", "--fail-on", "warning")
    tree = ElementTree.fromstring(troubled(*typed, exits=1).stdout)
    assert int(tree.get("failures")) == len(tree.findall(".//failure")) >= 3


def test_findings_by_rule_say_which_devices_have_the_same_trouble(troubled):
    shown = troubled("audit", "--group-by", "rule", exits=1).stdout
    assert "image-altered  warning  2 findings on 2 devices" in shown
    assert "where:  =a|b, two" in shown


def test_findings_by_image_say_how_many_copies_are_right(troubled):
    shown = troubled("audit", "--group-by", "image", exits=1).stdout
    assert "sw-2.0.img  warning  2 findings on 2 devices" in shown
    assert "copies: 2 altered" in shown


def test_only_and_device_narrow_an_audit(troubled):
    answer = json.loads(
        troubled("audit", "--only", "image-altered", "t*", "--format", "json").stdout
    )
    assert [one["device"] for one in answer["devices"]] == ["two"]
    assert {f["rule"] for d in answer["devices"] for f in d["findings"]} == {"image-altered"}
    assert "has no device 'zzz'" in troubled.refuses("audit", "zzz")
    assert "did you mean 'image-altered'?" in troubled("audit", "--only", "image-alterd",
                                                        exits=2).stderr  # fmt: skip
    assert (
        "--group-by" in troubled("audit", "--format", "csv", "--group-by", "rule", exits=2).stderr
    )


def _naming(devices, front):
    return lambda lines: [front + one.device.device for one in lines]


NAMES = Work(_naming, list[str])


def test_a_large_snapshot_is_worked_on_in_parts_and_comes_back_in_order(ovek, monkeypatch):
    names = [f"sw{number:03}" for number in range(200)]
    ovek.snapshot(
        *(device(member(image("1.0"), boots=(ONE,)), place=ONE, device=name) for name in names)
    )
    site = Site(ovek.folder)
    state = site.state()
    monkeypatch.setattr(runner, "_PART", 4096)
    for large in (2**40, 1):
        monkeypatch.setattr(runner, "_LARGE", large)
        parts = list(each_part(Devices(site, state), NAMES, "x"))
        assert [name for part in parts for name in part] == [f"x{name}" for name in names]
        assert len(parts) > 1


def test_who_was_not_read_is_known_in_a_process_of_its_own(ovek, monkeypatch):
    ovek.snapshot(*(device(member(image("1.0"), boots=(ONE,)), place=ONE, device=n) for n in "ab"))
    tried = {"format": "ovek.survey/1", "began": "2026-03-03T00:00:00Z", "snapshot": "x",
             "devices": [{"device": "b", "result": "not read", "problem": "none"}]}  # fmt: skip
    ovek.write("snapshots/later.survey.json", json.dumps(tried))
    site = Site(ovek.folder)
    monkeypatch.setattr(runner, "_LARGE", 1)
    devices = Devices(site, site.state())
    found = [one for part in each_part(devices, ANSWERS, NOW, None) for one in part]
    assert [(one.device, one.answer) for one in found] == [("a", "go"), ("b", "unclear")]


def test_bad_input_in_a_process_of_its_own_is_told_as_anywhere(ovek, monkeypatch):
    ovek.snapshot(device(member(image("1.0"), boots=(ONE,)), place=ONE))
    state, file = Site(ovek.folder).state(), ovek.folder / "snapshots/now.jsonl"
    file.write_bytes(b"?" * file.stat().st_size)
    monkeypatch.setattr(runner, "_LARGE", 1)
    with pytest.raises(Exception, match="damaged: "):
        list(each_part(Devices(Site(ovek.folder), state), NAMES, "x"))
