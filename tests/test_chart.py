"""Figures: what they tell, that no label lies on another, and what they are in a terminal."""

import re
from datetime import UTC, datetime, timedelta
from itertools import combinations
from xml.etree import ElementTree

import pytest
from msgspec.structs import replace

from builders import NOW, ONE, TWO, device, flash, image, member, plain
from builders.results import VIEW, result
from ovek.demo import write_site
from ovek.engine.history import open_on
from ovek.model.charted import Charted, ChartedImage
from ovek.model.finding import AuditedStart
from ovek.model.flash import Share, VolumeUse
from ovek.model.history import Day, Fact, OpenOn, Span
from ovek.model.results.figures import (
    FlashFigure,
    VerdictsFigure,
    VersionsFigure,
    WalkFigure,
)
from ovek.model.results.histories import Trend
from ovek.model.walk import Candidate, DeviceWalk, MemberWalk, Started
from ovek.render.charts import bar, plot, trend, verdicts, versions, walk
from ovek.render.charts import flash as room

pytest.importorskip("matplotlib")
MIB = 2**20


def charted(number):
    """Some devices at some sites, among them long names, and every verdict."""
    every = ["proven", "matched", "unverified", "unlisted", "disputed", "truncated", "altered"]
    found = []
    for at in range(number):
        version = ("7.4.2", "7.4.1", "7.2.5-long-build-name")[at % 3]
        holds = (Share("running or next", 600 * MIB), Share("leftover, log, crash file", 90 * MIB))
        needs = (None, 0, 500 * MIB, 900 * MIB)[at % 4]
        volume = VolumeUse(
            volume="flash", capacity=1500 * MIB, free=810 * MIB, holds=holds, needs=needs
        )
        found.append(
            Charted(
                device=f"{'distribution-' if at % 7 == 0 else ''}switch-{at}",
                site=("Port Arle", "Brackness", "A very long name of a site", None)[at * at % 4],
                target=("7.4.2", "7.4.2", None)[at % 3],
                on_target=(True, False, None)[at % 3],
                boots=(AuditedStart(member="1", running=version, place=None, version=version),),
                images=tuple(
                    ChartedImage(f"ox40-full-{each}.{at % 9}.img", every[(at + each) % 7], True)
                    for each in range(3)
                ),
                flash=(volume,),
            )
        )
    return found


def walks(members=1):
    tried = (
        Candidate(place="flash:a-very-long-name-of-an-image-that-is-gone-7.4.2.img",
                  origin="order", result="missing", why="the file does not exist"),
        Candidate(place=ONE, origin="order", result="proven", why="its MD5 is"),
    )  # fmt: skip
    ends = Started(place=ONE, version="1.0", verdict="proven", by="md5")
    one = [
        MemberWalk(
            member=str(at), from_="saved", outcome="proven", boots=ends, tried=tried, note=""
        )
        for at in range(members)
    ]
    lost = [replace(each, outcome="stranded", boots=None, tried=tried[:1]) for each in one]
    base = DeviceWalk(device="sw", next_boot="proven", running="1.0", changes=False,
                      members_differ=False, members=tuple(one))  # fmt: skip
    return [("as it is", base), ("if flash: were gone", replace(base, members=tuple(lost)))]


def days(number):
    first = datetime(2030, 1, 1, tzinfo=UTC)
    named = [f"{first + timedelta(days=at):%Y-%m-%d}" for at in range(number)]
    told = [
        Day(day=day, devices=20, go=at % 20, no_go=3, unclear=2, proven=15, on_target=at % 9,
            with_target=20) for at, day in enumerate(named)
    ]  # fmt: skip
    return told, [
        OpenOn(day=day, critical=at % 3, warning=7, note=2) for at, day in enumerate(named)
    ]


def draw(module, drawn):
    """Draw it as PNG."""
    return b"".join(module.draw(drawn, VIEW, "png"))


def trended(number):
    """So many days."""
    told, opened = days(number)
    return result(Trend, days=told, opened=opened, caption="from")


def figure(kind, number):
    """A figure of so many devices."""
    return kind(devices=charted(number), caption="from")


FIGURES = {
    **{f"flash {n}": lambda n=n: draw(room, figure(FlashFigure, n)) for n in (1, 5, 40, 400)},
    **{f"versions {n}": lambda n=n: draw(versions, figure(VersionsFigure, n)) for n in (1, 5, 400)},
    **{f"verdicts {n}": lambda n=n: draw(verdicts, figure(VerdictsFigure, n))
       for n in (5, 40, 400)},
    **{f"walk {n}": lambda n=n: draw(walk, WalkFigure(walks=walks(n), caption="from"))
       for n in (1, 2)},
    **{f"trend {n}": lambda n=n: draw(trend, trended(n)) for n in (2, 40, 400)},
}  # fmt: skip


def labels(figure):
    """Every text of a figure that is shown, with the box that it fills, in pixels."""
    from matplotlib.axis import Axis
    from matplotlib.text import Text

    figure.canvas.draw()
    ticks = dict[Text, bool]()  # whether its tick is where the axis can be seen
    for axis in figure.findobj(Axis):
        low, high = sorted(axis.get_view_interval())
        for tick in (*axis.majorTicks, *axis.minorTicks):
            ticks[tick.label1] = ticks[tick.label2] = low <= tick.get_loc() <= high
    return [
        (one.get_text(), one.get_window_extent(), one.get_rotation())
        for one in figure.findobj(Text)
        if one.get_text().strip() and one.get_visible() and ticks.get(one, True)
    ]


@pytest.mark.parametrize("name", FIGURES)
def test_no_label_lies_on_another(name, monkeypatch):
    kept = []
    monkeypatch.setattr(plot, "saved", lambda figure, kind, **more: kept.append(figure) or b"")
    FIGURES[name]()
    (figure,) = kept
    try:
        found = labels(figure)
        assert any(told == "from" for told, _, _ in found), "a caption tells the source"
        straight = [(told, box) for told, box, turn in found if turn == 0]
        for (one, first), (other, second) in combinations(straight, 2):
            wide = min(first.x1, second.x1) - max(first.x0, second.x0)
            high = min(first.y1, second.y1) - max(first.y0, second.y0)
            assert wide <= 1 or high <= 1, (one, other)
    finally:
        plot.pyplot().close(figure)


@pytest.mark.parametrize("kind", ["png", "svg"])
def test_a_figure_is_what_its_ending_says(kind, ovek):
    for what in ("flash", "versions", "verdicts", "waves", "walk", "trend"):
        assert ovek("chart", what, "-o", f"{what}.{kind}").stdout == f"Drawn: {what}.{kind}\n"
        data = (ovek.folder / f"{what}.{kind}").read_bytes()
        if kind == "png":
            assert data.startswith(b"\x89PNG") and data.endswith(b"IEND\xaeB`\x82")
        else:
            assert ElementTree.fromstring(data).tag.endswith("svg")
    assert "png or .svg" in ovek("chart", "flash", "-o", "a.pdf", exits=2).stderr


def test_flash_tells_where_the_target_has_no_room(ovek):
    small = flash(image("1.0"), plain("old.log", 10), free=1000, capacity=700 * MIB)
    ovek.write("policy.toml", 'format = "ovek.policy/1"\ntarget = "2.0"\n')
    ovek.snapshot(
        device(member(volumes=(small,), boots=(ONE,)), device="small", place=ONE),
        device(member(image("1.0"), boots=(ONE,)), device="large", place=ONE),
        device(member(image("1.0"), image("2.0"), boots=(ONE,)), device="has", place=ONE),
    )
    lines = ovek("chart", "flash").stdout.splitlines()
    assert lines[0] == "Target image still missing on 2 volumes; 1 of them have no space for it."
    assert lines[2].strip().startswith("small flash:") and lines[2].endswith("NO ROOM")
    assert not any("NO ROOM" in line for line in lines[3:])
    assert "target" not in next(line for line in lines if "has flash:" in line)


def test_versions_are_counted_by_site_against_the_target(ovek):
    ovek.snapshot(
        *(device(member(image("1.0"), boots=(ONE,)), device=f"a{at}", site="North", place=ONE)
          for at in range(3)),
        device(member(image("2.0"), boots=(TWO,)), device="b", site="South", running="2.0",
               place=TWO),
    )  # fmt: skip
    assert ovek("chart", "versions").stdout.splitlines()[0].endswith("4 have none.")
    ovek.write("policy.toml", 'format = "ovek.policy/1"\ntarget = "1.0"\n')
    first, north, south = ovek("chart", "versions", "--ascii").stdout.splitlines()
    assert first == "3 of 4 devices on their target."
    assert "North" in north and "[################] 3 of 3" in north and "1.0 (target): 3" in north
    assert "[................] 0 of 1" in south and "2.0: 1" in south
    assert ovek("chart", "versions", "b").stdout.splitlines()[0] == "0 of 1 device on their target."


def test_verdicts_begin_with_the_wrong_ones(ovek):
    bad = image("2.0", content="other")
    ovek.snapshot(device(member(image("1.0"), bad, boots=(ONE,)), place=ONE))
    lines = ovek("chart", "verdicts").stdout.splitlines()
    assert lines[0] == "1 of 2 copies proven, 1 bad."
    assert "1 altered" in lines[1] and "1 proven" in lines[2]
    cut = image("2.0", size=10, digests=None)
    ovek.snapshot(device(member(image("1.0"), cut, boots=(ONE,)), place=ONE))
    assert ovek("chart", "verdicts").stdout.splitlines()[0] == "1 of 2 copies proven, 1 bad."
    ovek.snapshot(device(member(image("1.0"), boots=(ONE,)), place=ONE))
    assert ovek("chart", "verdicts").stdout.splitlines()[0] == "1 of 1 copy proven, none bad."


def test_a_walk_is_of_one_device_with_what_ifs_beside_it(ovek):
    ovek.snapshot(
        device(member(image("1.0"), image("2.0"), boots=(ONE, TWO)), device="a", place=ONE),
        device(member(image("1.0"), boots=(ONE,)), device="b", place=ONE),
    )
    assert "draws one device" in ovek("chart", "walk", exits=2).stderr
    listed = (ovek.folder / "fleet.toml").read_text()
    ovek.write("fleet.toml", listed + '[[device]]\nname = "away"\nsheet = "switch"\n')
    assert "ovek survey away" in ovek.refuses("chart", "walk", "away")
    told = ovek("chart", "walk", "a").stdout
    assert "a, as it is:" in told and f"a, if {ONE} is bad:" in told
    assert "next boot 2.0 from" in told
    told = ovek("chart", "walk", "a", "--if-missing", TWO, "--if-saved").stdout
    assert told.count("a, if ") == 2
    assert "has no" in ovek.refuses("chart", "walk", "a", "--if-bad", "flash:nothing.img")
    assert "nonsense" in ovek("chart", "walk", "a", "--if-bad", "nonsense", exits=2).stderr


def test_the_trend_needs_something_that_was_read(ovek):
    later = replace(device(member(image("1.0"), boots=(ONE,)), place=ONE),
                    taken_at=NOW + timedelta(days=1))  # fmt: skip
    ovek.snapshot(later, name="later.jsonl")
    first, *lines = ovek("chart", "trend").stdout.splitlines()
    assert "1 of 1 go, +0 since" in first and len(lines) == 2
    assert "age" in ovek("chart", "trend", "--last", "soon", exits=2).stderr


def span(rule, severity, first, ended=None):
    fact = Fact("finding", "", rule, severity)
    at = NOW + timedelta(days=first)
    over = NOW + timedelta(days=ended) if ended is not None else None
    return "sw", Span(fact=fact, first=at, last=at if over is not None else None, ended=over)


def test_what_was_open_is_counted_by_the_end_of_each_day():
    spans = [span("a", "critical", -9), span("b", "critical", 1, 2), span("c", "note", 2),
             span("d", "warning", -9, -1), span("e", "waived", 0)]  # fmt: skip
    first = NOW.date()
    found = open_on(spans, first, first + timedelta(days=2))
    assert [(day.critical, day.warning, day.note) for day in found] == [
        (1, 0, 0), (2, 0, 0), (1, 0, 1),
    ]  # fmt: skip


def test_bars_are_plain_where_nothing_else_can_be_shown(ovek, monkeypatch):
    assert "█" in ovek("chart", "flash").stdout
    assert "█" not in ovek("chart", "flash", "--ascii").stdout
    assert ovek("chart", "flash", "--ascii").stdout.isascii()
    assert (bar(0, 4, plain=True), bar(1.7, 4, plain=True)) == ("....", "####")


def test_lines_fit_the_terminal(ovek, monkeypatch):
    write_site(ovek.folder / "sample")
    monkeypatch.setenv("COLUMNS", "100")
    for what in ("flash", "versions", "verdicts", "waves"):
        told = ovek("chart", what, "--site", "sample", exits=3).stdout
        assert max(map(len, told.splitlines())) <= 100, what
        assert not re.search(r"\s$", told.splitlines()[0])
