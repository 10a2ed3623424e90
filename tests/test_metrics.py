"""The audit for a monitoring system, read back by a parser of the standard."""

import pytest
from msgspec.structs import replace
from prometheus_client.openmetrics.parser import text_string_to_metric_families as parsed

from builders import NOW, device, image, member
from conftest import Ovek
from ovek.demo import write_site
from ovek.files.snapshot import write_snapshot


def samples(ovek, *typed: str) -> dict[str, dict[tuple[str, ...], float]]:
    text = ovek("audit", "--format", "openmetrics", *typed, exits=None).stdout
    assert text.endswith("\n# EOF\n")
    return {
        family.name: {
            tuple(value for key, value in one.labels.items() if key != "network"): one.value
            for one in family.samples
        }
        for family in parsed(text)
    }


def test_what_is_counted_is_what_the_audit_says(tmp_path):
    write_site(tmp_path / "site")
    sample = Ovek(tmp_path / "site")
    told, counted = sample.json("audit", exits=1), samples(sample)
    assert sum(counted["ovek_devices"].values()) == len(told["devices"]) + sum(
        one["last_read"] is None for one in told["not_read"]
    )
    for answer in ("go", "no-go", "unclear"):
        number = sum(n for key, n in counted["ovek_devices"].items() if key[-1] == answer)
        assert number == told["summary"][answer]
    for severity in ("critical", "warning", "note", "waived"):
        number = sum(n for key, n in counted["ovek_findings"].items() if key[-1] == severity)
        assert number == told["summary"][severity]
    states = counted["ovek_next_boot_devices"]
    for state in ("proven", "unproven", "stranded", "unknown"):
        number = sum(n for key, n in states.items() if key[-1] == state)
        assert number == told["summary"][state]
    assert sum(counted["ovek_devices_not_read"].values()) == len(told["not_read"])
    rules = {finding["rule"] for one in told["devices"] for finding in one["findings"]}
    assert {key[2] for key in counted["ovek_findings"]} == rules
    assert all(age > 0 for age in counted["ovek_oldest_reading_age_seconds"].values())


@pytest.mark.parametrize(
    "place", ['a"b', "a\\b", "a\\nb", "a\nb", "ö\x07", "\u202eevil", "{x=1} 2"]
)
def test_any_name_is_escaped_as_the_standard_says(ovek, place):
    one = device(member(image("1.0"), boots=("flash:sw-1.0.img",)), device="a")
    write_snapshot(ovek.folder / "snapshots/now.jsonl", [replace(one, site=place)])
    (labels,) = [key for key in samples(ovek)["ovek_devices"] if key[0]]
    assert labels[0] == (place if place.isprintable() else labels[0])
    assert labels[0].isprintable()


def test_ages_are_those_of_the_oldest_and_the_latest_reading_of_a_place(ovek):
    one = device(member(image("1.0"), boots=("flash:sw-1.0.img",)), device="a", site="North")
    later = replace(one, device="b", taken_at=NOW.replace(hour=NOW.hour - 1))
    write_snapshot(ovek.folder / "snapshots/now.jsonl", [one, later])
    counted = samples(ovek)
    oldest, latest = (
        next(n for key, n in counted[f"ovek_{which}_reading_age_seconds"].items() if key[0])
        for which in ("oldest", "latest")
    )
    assert oldest - latest == 3600
