"""A fleet's reloads in waves: windows, what is kept apart, canaries, and what does not fit."""

from datetime import datetime

import pytest
from msgspec.structs import replace

from builders.results import VIEW, reloads
from ovek.engine.waves import next_time, waves
from ovek.model.do import Do
from ovek.model.policy import Policy, Window
from ovek.model.runbook import Runbook, RunbookStep, Waves
from ovek.render.calendar import calendar
from ovek.render.charts.waves import draw

NOW = datetime(2026, 11, 26, 12, 0)
SATURDAYS = Window(site="Port", days="sat", from_="01:00", to="02:00")


def _calendar(planned, name):
    """The waves as a calendar."""
    return b"".join(calendar(reloads(planned, site=name), VIEW))


def book(name: str, minutes: int | None = 10, site: str = "Port", reloads: int = 1) -> Runbook:
    step = RunbookStep(
        stage="reload", do=Do(change="reload", words="Reload", minutes=minutes),
    )  # fmt: skip
    copy = replace(step, stage="image", do=Do(change="copy", minutes=500))
    return Runbook(
        device=name, site=site, sheet="s", target="2.0", steps=(copy, *[step] * reloads),
        reloads=reloads, next_boot="proven", boots=None, next_boot_after="proven", boots_after=None,
    )  # fmt: skip


def told(found: Waves):
    return [wave.devices for wave in found.waves], [one.device for one in found.misfits]


def test_without_windows_all_that_reload_go_together_at_any_time():
    found = waves([book("a"), book("b"), book("c", reloads=0)], Policy(), NOW)
    assert told(found) == ([("a", "b")], [])
    assert (found.waves[0].window, found.waves[0].minutes) == ("any time", 10)


def test_canaries_go_first_and_others_wait_for_the_next_time_of_the_window():
    policy = Policy(reload_in=(SATURDAYS,), canaries=("b",), at_once=2)
    found = waves([book(name) for name in "abcd"], policy, NOW)
    assert told(found)[0] == [("b",), ("a", "c"), ("d",)]
    # Behind the canaries in the next night; after that in the same one, while there is time.
    assert [wave.begins.isoformat()[:16] for wave in found.waves] == [
        "2026-11-28T01:00", "2026-12-05T01:00", "2026-12-05T01:10"
    ]  # fmt: skip
    assert found.waves[0].group == "canaries" and "wave 1 runs" in found.waves[1].before


def test_two_of_a_group_never_go_down_together():
    policy = Policy(apart=(("core-*", "edge"),))
    found = waves([book(name) for name in ("core-1", "core-2", "desk", "edge")], policy, NOW)
    assert told(found)[0] == [("core-1", "desk"), ("core-2",), ("edge",)]


def test_what_takes_longer_than_its_window_is_told_and_not_squeezed_in():
    policy = Policy(reload_in=(SATURDAYS,))
    found = waves([book("a", 61), book("b", 60), book("c", site="Pier")], policy, NOW)
    assert told(found) == ([("b",)], ["a", "c"])
    assert "it needs 61 min" in found.misfits[0].why and "has 60" in found.misfits[0].why
    assert "policy.toml has no reload_in window for it (Pier)" in found.misfits[1].why


def test_a_device_goes_by_its_own_window_before_that_of_its_place():
    own = Window(device="a", when="in port")
    found = waves([book("a"), book("b")], Policy(reload_in=(SATURDAYS, own)), NOW)
    assert [(wave.devices, wave.begins is None) for wave in found.waves] == [
        (("a",), True), (("b",), False)
    ]  # fmt: skip


def test_a_window_past_midnight_begins_on_its_day():
    window = Window(site="*", days=("thu", "tue"), from_="23:30", to="00:15")
    assert window.length == 45
    assert next_time(window, NOW).isoformat() == "2026-11-26T23:30:00"
    late = NOW.replace(hour=23, minute=50)
    assert next_time(window, late, 20).isoformat() == "2026-11-26T23:50:00"
    assert next_time(window, late, 30).isoformat() == "2026-12-01T23:30:00"
    assert next_time(window, late.replace(day=27, hour=0, minute=5)).isoformat() == (
        "2026-11-27T00:05:00"
    )


def test_a_wave_behind_one_without_a_date_says_so():
    own = Window(device="a", when="in port")
    policy = Policy(reload_in=(SATURDAYS, own), canaries=("a",))
    found = waves([book("a"), book("b")], policy, NOW)
    assert told(found)[0] == [("a",), ("b",)]
    assert "wave 1 has no date (in port)" in found.waves[1].before
    dated = waves([book("a"), book("b")], Policy(reload_in=(SATURDAYS,), canaries=("a",)), NOW)
    assert "no date" not in dated.waves[1].before


def test_an_event_ends_with_its_window_also_where_it_begins_in_its_middle():
    policy = Policy(reload_in=(SATURDAYS,), at_once=1)
    text = _calendar(waves([book("a"), book("b")], policy, NOW), "Port").decode()
    assert "DTSTART:20261128T011000\r\nDTEND:20261128T020000\r\n" in text


def test_a_device_with_danger_is_marked_in_its_wave_and_in_the_calendar():
    found = waves([replace(book("a"), danger=(1,)), book("b")], Policy(reload_in=(SATURDAYS,)), NOW)
    assert found.waves[0].danger == ("a",)
    text = _calendar(found, "Port").decode().replace("\r\n ", "")
    assert "SUMMARY:DANGER: Reload wave 1" in text and "leaves unbootable: a" in text
    calm = _calendar(waves([book("b")], Policy(reload_in=(SATURDAYS,)), NOW), "Port")
    assert b"DANGER" not in calm


def test_a_length_that_is_not_known_is_no_length():
    found = waves([book("a", None)], Policy(reload_in=(SATURDAYS,)), NOW)
    assert "Duration unknown" in _calendar(found, "Port").decode()


def test_the_calendar_has_an_event_a_wave_and_folds_its_lines():
    policy = Policy(reload_in=(SATURDAYS,))
    names = [f"a-long-name-{number};{number}" for number in range(20)]
    text = _calendar(waves([book(name) for name in names], policy, NOW), "Port, ours").decode()
    assert text.count("BEGIN:VEVENT\r\n") == 1
    assert "DTSTART:20261128T010000\r\nDTEND:20261128T020000\r\n" in text
    assert max(len(line.encode()) for line in text.split("\r\n")) <= 75
    whole = text.replace("\r\n ", "")
    assert "a-long-name-0\\;0\\, a-long-name-1\\;1" in whole


@pytest.mark.parametrize(
    ("window", "met"),
    [
        ('site = "Port"\nfrom = "01:00"\nto = "01:00"', "is empty"),
        ('site = "Port"\nfrom = "1:00"\nto = "02:00"', "use a time such as 01:30"),
        ('site = "Port"\ndays = "sar"\nfrom = "01:00"\nto = "02:00"', "did you mean 'sat'?"),
        ('site = "Port"\nwhen = "in port"\nfrom = "01:00"', "use one of them"),
        ('from = "01:00"\nto = "02:00"', "needs exactly one of"),
        ('site = "Prot"\nfrom = "01:00"\nto = "02:00"', "Did you mean 'Port'?"),
    ],
)
def test_a_bad_window_is_refused_with_what_was_met(ovek, window, met):
    fleet = 'name = "Test"\n[[device]]\nname = "sw"\nsheet = "switch"\nsite = "Port"\n'
    ovek.write("fleet.toml", fleet)
    ovek.write("policy.toml", f'format = "ovek.policy/1"\n[[reload_in]]\n{window}\n')
    said = ovek("policy", "check", exits=2).stderr
    assert met in said and "policy.toml" in said


def test_windows_that_overlap_and_names_that_nobody_has_are_told_at_once(ovek):
    fleet = 'name = "Test"\n[[device]]\nname = "sw"\nsheet = "switch"\nsite = "Port"\n'
    ovek.write("fleet.toml", fleet)
    window = '[[reload_in]]\nsite = "Port"\ndays = "sat"\nfrom = "{}"\nto = "{}"\n'
    ovek.write(
        "policy.toml",
        'format = "ovek.policy/1"\ncanaries = ["sv"]\napart = [["sw", "cor*"]]\n'
        + window.format("23:00", "02:00").replace("sat", "fri")
        + window.format("01:00", "04:00"),
    )
    said = ovek("policy", "check", exits=2).stderr
    assert "overlaps reload_in[0]" in said
    assert "device 'sv' does not exist" in said and "device 'cor*' does not exist" in said
    ovek.write(
        "policy.toml",
        'format = "ovek.policy/1"\n' + window.format("23:00", "01:00").replace("sat", "fri")
        + window.format("01:00", "04:00"),
    )  # fmt: skip
    ovek("policy", "check")


@pytest.mark.parametrize("kind", ["png", "svg"])
def test_the_waves_are_drawn(kind):
    policy = Policy(reload_in=(SATURDAYS,), at_once=1)
    found = waves(
        [book(f"a{number}$x$", None if number else 9) for number in range(45)], policy, NOW
    )
    (drawn,) = draw(reloads(found), VIEW, kind)
    assert drawn.startswith(b"\x89PNG" if kind == "png" else b"<?xml")
    if kind == "svg":
        assert b"5 of them not drawn" in drawn.replace(b"\n", b" ") or b"<path" in drawn
