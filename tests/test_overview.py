"""An audit of very many devices is one screen: what there is, counted, and where to look next."""

import re
from collections import Counter
from typing import get_args

import pytest

from builders import device, image, member
from ovek.cli.audit import MANY
from ovek.model.change import ChangeKind
from ovek.render.overview import _STEPS

GOOD, BAD = "flash:sw-1.0.img", "flash:sw-9.9.img"


def fleet(ovek, number: int) -> None:
    """Devices of which every fourth names a file that is not there."""
    ovek.snapshot(
        *(
            device(
                member(image("1.0"), boots=(GOOD,) if at % 4 else (BAD, GOOD)),
                device=f"sw-{at:04}",
                place=GOOD,
            )
            for at in range(number)
        )
    )


def test_it_counts_what_the_audit_says(ovek):
    fleet(ovek, 5 * MANY)
    shown = ovek("audit", exits=None).stdout
    told = ovek.json("audit", exits=1)
    devices, findings, steps = Counter(), Counter(), Counter()
    for one in told["devices"]:
        keys = [(each["severity"], each["rule"]) for each in one["findings"]]
        findings.update(keys)
        devices.update(set(keys))
        if keys:
            steps[one["steps"][0]["change"] if one["steps"] else None] += 1
    rows = re.findall(r"^(critical|warning|note) +(\S+) +([\d,]+) +([\d,]+)", shown, re.M)
    assert {row[:2]: int(row[2].replace(",", "")) for row in rows} == devices
    assert {row[:2]: int(row[3].replace(",", "")) for row in rows} == findings
    below = shown.partition("FIRST STEP\n")[2]
    numbers = [int(number) for number in re.findall(r"^ +(\d+)  [A-Z]", below, re.M)]
    assert sorted(numbers) == sorted(steps.values())
    assert len(shown.splitlines()) <= 40
    assert "0000" in shown and max(map(len, shown.splitlines())) <= 100


def test_whoever_wants_more_gets_it(ovek):
    fleet(ovek, MANY + 1)
    short = ovek("audit", exits=None).stdout
    assert "FINDINGS BY RULE" in short and "sw-0099" not in short
    for typed in (("-v",), ("--group-by", "device"), ("sw-*",)):
        shown = ovek("audit", *typed, exits=None).stdout
        listed = typed != ("sw-*",)
        assert ("sw-0099" in shown) == listed
    assert "sw-0099" in ovek("audit", "sw-009*", exits=None).stdout


def test_a_fleet_that_fits_a_few_screens_is_listed(ovek):
    fleet(ovek, MANY)
    assert "sw-0003" in ovek("audit", exits=None).stdout


def test_without_findings_there_is_nothing_to_count(ovek):
    ovek.write("policy.toml", 'format = "ovek.policy/1"\nreserve = "0%"\nsnapshot_age = "9999d"\n')
    good = member(image("1.0"), image("2.0"), boots=("flash:sw-2.0.img",))
    place = "flash:sw-2.0.img"
    ovek.snapshot(
        *(device(good, device=f"d{at}", place=place, running="2.0") for at in range(MANY + 1))
    )
    shown = ovek("audit", "--only", "stranded", exits=None).stdout
    assert "FINDINGS" not in shown and "WHAT IS TO BE DONE" not in shown


@pytest.mark.parametrize("kind", sorted({*get_args(ChangeKind)} - {"lose", "spoil"}))
def test_every_kind_of_step_has_words(kind):
    assert _STEPS[kind]
