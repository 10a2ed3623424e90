"""What a device tells and how it is understood: each value by itself, in whatever form."""

import json
from datetime import UTC, datetime, timedelta

import msgspec
import pytest

from builders import NOW, digest
from ovek.files.site import read_sheet
from ovek.model.sheet import Numbered, Question
from ovek.sources.rows import rows_of
from ovek.sources.snapshot_builder import Draft, DraftError, understood
from ovek.sources.values import Clock, ValueProblem, value_of

HEAD = {"format": "ovek.snapshot/1", "device": "box", "sheet": "box", "taken_at": NOW.isoformat()}
SHEET = """
format = "ovek.sheet/1"
name = "box"
title = "A box"
vendor = "Nobody"
models = ["*"]
[boot]
layout = "files"
fallback = "none"
on_bad_image = "next"
default_volume = "flash"
[images]
names = ['image-(?P<version>[0-9.]+)\\.img']
"""


@pytest.fixture
def draft(tmp_path):
    file = tmp_path / "box.toml"
    file.write_text(SHEET)
    return Draft(read_sheet(file), NOW)


def question(fills, template, **more):
    return Question(name="q", ask="q", fills=fills, template=template, **more)


def tell(draft, asked, text, **context):
    """Take in one answer; what is not understood is a problem."""
    try:
        made = understood(asked, context, rows_of(asked, text), draft.clock)
    except DraftError as error:
        draft.problems.append(str(error))
        return
    draft.fill(asked, context, made)


def volume(draft):
    return draft.finished(HEAD).members[0].volumes[0]


FILES = question(
    "file",
    "Value SIZE (\\S+)\nValue PATH (\\S+)\nValue MD5 (.*)\n\nStart\n"
    "  ^${SIZE} ${PATH} ?${MD5}$$ -> Record\n",
    fixed={"volume": "flash"},
    units={"size": "KiB"},
)


@pytest.mark.parametrize(("told", "size", "step"), [
    ("7", 7168, 1024), ("7B", None, None), ("1,024", 2**20, 1024), ("1.5", 1536, 103),
])  # fmt: skip
def test_the_unit_of_a_listing_says_to_what_a_size_is_known(draft, told, size, step):
    tell(draft, FILES, f"{told} a.img")
    file = volume(draft).files[0]
    assert (file.size, file.size_step) == (size, step)


def test_a_size_in_bytes_is_exact_and_stays_so_beside_a_rounded_one(draft):
    exact = question("file", FILES.template, fixed={"volume": "flash"})
    tell(draft, exact, "7000 a.img")
    tell(draft, FILES, "7 a.img")
    assert (volume(draft).files[0].size, volume(draft).files[0].size_step) == (7000, None)
    tell(draft, FILES, "9 a.img")
    assert volume(draft).files[0].size == 9216


MD5 = digest("x")


@pytest.mark.parametrize("told", [
    MD5, MD5.upper(), " ".join(MD5[at : at + 4] for at in range(0, 32, 4)),
    ":".join(MD5[at : at + 2] for at in range(0, 32, 2)),
])  # fmt: skip
def test_a_digest_is_read_in_capitals_and_in_groups(draft, told):
    tell(draft, FILES, f"1 a.img {told}")
    file = volume(draft).files[0]
    assert (file.digests.md5, file.digests_at) == (MD5, NOW)


def test_a_digest_over_two_lines_is_read(draft):
    asked = question(
        "digest",
        "Value List SHA512 ([0-9A-F ]+)\n\nStart\n  ^sum:$$\n  ^ *${SHA512}$$\n",
        fixed={"volume": "flash", "path": "a.img"},
    )
    whole = digest("x", "sha512").upper()
    tell(draft, asked, f"sum:\n {whole[:64]}\n {whole[64:]}\n")
    assert volume(draft).files[0].digests.sha512 == whole.lower()


def test_a_line_that_the_terminal_wrapped_with_an_indent_is_joined(draft):
    asked = question(
        "digest",
        "Value MD5 ([0-9a-f]{32})\n\nStart\n  ^sum ${MD5}$$ -> Record\n",
        fixed={"volume": "flash", "path": "a.img"},
    )
    tell(draft, asked, f"sum {MD5[:20]}\n     {MD5[20:]}\n")
    assert volume(draft).files[0].digests.md5 == MD5


@pytest.mark.parametrize("told", ["12 34", "n/a", MD5 + "0", "g" * 32])
def test_a_digest_that_is_none_costs_itself_with_its_line(draft, told):
    tell(draft, FILES, f"5 b.img\n1 a.img {told}")
    files = volume(draft).files
    assert [(file.path, file.digests) for file in files] == [("b.img", None), ("a.img", None)]
    assert "has 32 hex digits" in draft.lost[0]
    assert f"1 a.img {told}" in draft.lost[0]


def date(written, clock, fmt="%b %d %H:%M", own=True):
    asked = question("file", "Value X (x)\n\nStart\n", dates={"modified": fmt})
    told = value_of(asked, "modified", [written], Clock(clock, own=own))
    return datetime.fromisoformat(told)


@pytest.mark.parametrize(("written", "clock", "year"), [
    ("Mar 02 21:14", NOW, 2026), ("Mar 03 00:00", NOW, 2025), ("Dec 31 23:59", NOW, 2025),
    ("Feb 29 10:00", NOW, 2024), ("Feb 29 10:00", datetime(2028, 2, 29, tzinfo=UTC), 2028),
    ("Feb 29 10:00", datetime(2028, 2, 28, tzinfo=UTC), 2024),
    ("Jan 01 00:00", datetime(2026, 1, 1, tzinfo=UTC), 2026),
    ("Feb 29 10:00", datetime(2103, 1, 1, tzinfo=UTC), 2096),
])  # fmt: skip
def test_a_date_without_a_year_is_the_nearest_such_day_not_after_the_clock(written, clock, year):
    assert date(written, clock).year == year
    assert date(written, clock).strftime("%b %d %H:%M") == written


@pytest.mark.parametrize(("written", "year"), [
    ("Mar 02 03:00", 2026), ("Mar 03 03:00", 2026), ("Mar 01 03:00", 2027), ("Feb 29 03:00", 2028),
])  # fmt: skip
def test_a_reload_to_come_is_on_the_nearest_such_day_not_before_the_clock(written, year):
    asked = question("device", "Value X (x)\n\nStart\n", dates={"reload_at": "%b %d %H:%M"})
    told = value_of(asked, "reload_at", [written], Clock(NOW, own=True))
    assert datetime.fromisoformat(told).year == year


def test_where_the_clock_is_not_known_today_may_be_tomorrow_there():
    assert date("Mar 03 08:00", NOW, own=False).year == 2026
    assert date("Mar 04 08:00", NOW, own=False).year == 2025


def test_a_date_may_be_written_in_several_ways():
    ways = ("%b %d  %Y", "%b %d %H:%M")
    assert date("Nov 02  2019", NOW, ways).year == 2019
    assert date("Nov 02 21:14", NOW, ways).year == 2025
    with pytest.raises(ValueProblem):
        date("yesterday", NOW, ways)


def test_dates_go_by_the_clock_that_the_device_told(draft):
    told = question(
        "device",
        "Value CLOCK (.+)\n\nStart\n  ^${CLOCK}$$\n",
        dates={"clock": "%Y-%m-%d %H:%M"},
    )
    files = question(
        "file", "Value MODIFIED (\\w+ \\d+)\nValue PATH (\\S+)\n\nStart\n"
        "  ^${MODIFIED} ${PATH}$$ -> Record\n",
        fixed={"volume": "flash"}, dates={"modified": "%b %d"},
    )  # fmt: skip
    tell(draft, told, "2019-06-01 12:00")
    tell(draft, files, "May 30 a.img\nJul 01 b.img")
    assert [file.modified.year for file in volume(draft).files] == [2019, 2018]
    assert draft.finished(HEAD).clock.year == 2019


ORDER = question(
    "order",
    "Value PLACE (\\S.*)\n\nStart\n  ^boot ${PLACE}$$ -> Record\n",
    fixed={"list": "saved"},
)


@pytest.mark.parametrize(("told", "place"), [
    ("flash:a.img", "flash:a.img"), ("a.img", "flash:a.img"), ("card a.img", "card:a.img"),
    ("a b.img", "flash:a b.img"), ("flash:", None), ("tftp://192.0.2.9/a", "tftp://192.0.2.9/a"),
])  # fmt: skip
def test_a_boot_entry_is_resolved_by_the_sheet_or_kept_as_it_was_told(draft, told, place):
    draft.volume("1", "card")
    tell(draft, ORDER, f"boot b.img\nboot {told}")
    first, entry = draft.finished(HEAD).members[0].boot.order.saved
    assert first.place == "flash:b.img"
    assert (entry.place or entry.remote) == place
    assert entry.raw == told
    assert bool(draft.lost) is (told == "flash:")


def test_an_order_by_columns_of_volume_and_path(draft):
    asked = question(
        "order",
        "Value VOLUME (\\S+)\nValue PATH (\\S+)\n\nStart\n  ^\\d+ ${VOLUME} ${PATH}$$ -> Record\n",
        fixed={"list": "saved"},
    )
    tell(draft, asked, "1 flash a.img\n2 card b.img\n")
    order = draft.finished(HEAD).members[0].boot.order.saved
    assert [entry.place for entry in order] == ["flash:a.img", "card:b.img"]


def test_one_impossible_value_costs_neither_volume_nor_member_nor_device(draft):
    volumes = question(
        "volume",
        "Value VOLUME (\\S+)\nValue STATE (\\S+)\nValue CAPACITY (\\S+)\nValue FREE (\\S+)\n\n"
        "Start\n  ^${VOLUME} ${STATE} ${CAPACITY} ${FREE}$$ -> Record\n",
    )
    tell(draft, volumes, "flash fine 100 900\ncard ok many 5\n")
    flash, card = draft.finished(HEAD).members[0].volumes
    assert (flash.state, flash.capacity, flash.free) == (None, 100, None)
    assert (card.state, card.capacity, card.free) == ("ok", None, 5)
    assert len(draft.lost) == 3
    assert not draft.problems


def test_an_answer_for_the_whole_stack_holds_for_every_member(draft):
    for name in ("1", "2", "3"):
        draft.member(name)
    asked = question(
        "boot",
        "Value MODE (\\S+)\n\nStart\n  ^mode ${MODE}$$\n",
        columns={"MODE": "mode.saved"},
        for_all="members",
    )
    tell(draft, asked, "mode hold\n")
    assert [m.boot.mode.saved for m in draft.finished(HEAD).members] == ["hold"] * 3


def test_a_row_that_names_its_member_is_of_that_one(draft):
    for name in ("1", "2"):
        draft.member(name)
    asked = question(
        "component",
        "Value MEMBER (\\d*)\nValue SLOT (\\d+)\nValue COMPONENT (\\S+)\n"
        "Value VERSION (\\S+)\n\nStart\n"
        "  ^unit ${MEMBER} slot ${SLOT} ${COMPONENT} ${VERSION}$$ -> Record\n"
        "  ^slot ${SLOT} ${COMPONENT} ${VERSION}$$ -> Record\n",
        for_all="members",
    )
    tell(draft, asked, "unit 2 slot 3 card 4.0\nslot 1 fan 1.1\n")
    one, two = draft.finished(HEAD).members
    assert [part.shown for part in one.components] == ["fan in slot 1"]
    assert [part.shown for part in two.components] == ["card in slot 3", "fan in slot 1"]


def test_a_choice_told_by_number_is_what_the_list_says(draft):
    asked = question(
        "boot",
        "Value ONCE (\\d+)\n\nStart\n  ^ \\d+\\) \\S+$$\n  ^chosen: ${ONCE}$$\n",
        numbered=Numbered(list=r" (?P<number>\d+)\) (?P<value>\S+)", fields=("once",)),
    )
    tell(draft, asked, " 1) flash:a.img\n 2) flash:b.img\nchosen: 2\n")
    assert draft.finished(HEAD).members[0].boot.once.place == "flash:b.img"


def test_a_number_that_is_not_in_the_list_is_lost_alone(draft):
    asked = question(
        "boot",
        "Value ONCE (\\d+)\nValue MODE (\\S+)\n\nStart\n  ^ \\d+\\) \\S+$$\n"
        "  ^chosen: ${ONCE} ${MODE}$$\n",
        columns={"MODE": "mode.saved"},
        numbered=Numbered(list=r" (?P<number>\d+)\) (?P<value>\S+)", fields=("once",)),
    )
    tell(draft, asked, " 1) flash:a.img\nchosen: 7 hold\n")
    boot = draft.finished(HEAD).members[0].boot
    assert (boot.once, boot.mode.saved) == (None, "hold")
    assert "no line of the list has the number 7" in draft.lost[0]


CUT = question("file", FILES.template, fixed={"volume": "flash"}, cut_at=8)


def test_a_name_as_long_as_the_listing_shows_is_cut(draft):
    tell(draft, CUT, "5 image-3.\n6 a.img\n7 image-3.\n")
    told = [(file.path, file.path_cut, file.size) for file in volume(draft).files]
    assert told == [("image-3.", True, 5), ("a.img", False, 6), ("image-3.", True, 7)]


def test_the_whole_name_of_another_answer_takes_the_place_of_the_cut_one(draft):
    tell(draft, CUT, "5 image-3.\n")
    whole = question("file", FILES.template, fixed={"volume": "flash"})
    tell(draft, whole, "5 image-3.1.img\n")
    assert [(f.path, f.path_cut, f.size) for f in volume(draft).files] == [
        ("image-3.1.img", False, 5)
    ]


def carry(draft, **digests):
    at = (NOW - timedelta(days=12)).isoformat()
    row = {"volume": "flash", "path": "a.img", "digests_at": at, **digests}
    draft.take("digest", [row])


def test_a_carried_digest_keeps_its_time(draft):
    tell(draft, FILES, "1 a.img")
    carry(draft, md5=MD5)
    file = volume(draft).files[0]
    assert (file.digests.md5, file.digests_at) == (MD5, NOW - timedelta(days=12))


@pytest.mark.parametrize("fresh", ["before", "after"])
def test_a_digest_in_the_new_answers_wins_over_a_carried_one(draft, fresh):
    strong = digest("x", "sha512")
    if fresh == "before":
        tell(draft, FILES, f"1 a.img {digest('rotten')}")
    carry(draft, md5=MD5, sha512=strong)
    tell(draft, FILES, f"1 a.img {digest('rotten')}")
    file = volume(draft).files[0]
    assert (file.digests.md5, file.digests.sha512) == (digest("rotten"), None)
    assert file.digests_at == NOW


def test_a_new_digest_that_agrees_keeps_the_stronger_one_with_its_age(draft):
    tell(draft, FILES, f"1 a.img {MD5}")
    carry(draft, md5=MD5, sha512=digest("x", "sha512"))
    file = volume(draft).files[0]
    assert (file.digests.md5, file.digests.sha512) == (MD5, digest("x", "sha512"))
    assert file.digests_at == NOW - timedelta(days=12)


def test_a_carried_digest_of_a_file_that_is_gone_makes_no_file(draft):
    tell(draft, FILES, "1 b.img")
    carry(draft, md5=MD5)
    assert [file.path for file in volume(draft).files] == ["b.img"]


@pytest.mark.parametrize("name", ["place", "running.place"])
def test_what_no_place_can_be_is_not_known(draft, name):
    if name == "place":
        told = [("web", ":::"), ("fan", "flash:a.pkg")]
        draft.take("component", [{"component": n, "loads_from": p} for n, p in told])
        components = draft.finished(HEAD).members[0].components
        assert [each.loads_from for each in components] == [None, "flash:a.pkg"]
    else:
        draft.member("1")
        draft.take("device", [{"running.place": ":::", "running.version": "3.1"}])
        running = draft.finished(HEAD).running
        assert (running.place, running.version) == (None, "3.1")
    assert "is not a place" in draft.lost[0]


def test_a_sheet_says_nothing_that_cannot_be(tmp_path):
    for wrong, told in (
        ({"fills": "volume", "cut_at": 31}, "no cut_at"),
        ({"fills": "device", "for_all": "members"}, "no for_all"),
        ({"fills": "file", "numbered": {"list": "x", "fields": ("path",)}}, "number and value"),
        ({"fills": "file", "numbered": {"list": "(?P<number>.)(?P<value>.)", "fields": ("x",)}},
         "field 'x'"),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=told):
            msgspec.convert({"name": "q", "ask": "q", "template": "x", **wrong}, Question)


def test_the_facts_that_a_device_tells_of_itself_are_kept(draft):
    draft.member("1")
    row = {"clock": "2026-03-02T21:00:00+00:00", "reload_at": "2026-03-03T02:00:00+00:00"}
    draft.take("device", [{**row, "hardware.serial": "S1", "config.backed_up": "never"}])
    draft.take("member", [{"member": "1", "hardware.serial": "S1", "hardware.memory": 5}])
    draft.take("volume", [{"volume": "stick", "removable": True}])
    one = json.loads(json.dumps(draft.device))
    assert one["config"] == {"backed_up": "never"}
    found = draft.finished(HEAD)
    assert (found.clock.hour, found.reload_at.hour, found.config.backed_up) == (21, 2, "never")
    assert found.members[0].hardware.serial == "S1"
    assert found.members[0].volumes[0].removable is True
