import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ovek.model.place import Place, PlaceError, parse_place
from ovek.model.size import SizeError, parse_size, show_size
from ovek.model.version import compare, later

versions = st.lists(
    st.sampled_from(["1", "2", "10", "a", "b", "rc", "dev", "alpha", "beta", "lts"]),
    min_size=1,
    max_size=4,
).map(".".join)


@pytest.mark.parametrize(
    ("earlier", "further"),
    [
        ("9.5", "9.5a"),
        ("9.5a", "9.5b"),
        ("9.5b", "9.6"),
        ("7.4rc1", "7.4"),
        ("7.4alpha", "7.4beta"),
        ("7.9", "7.10"),
        ("7.4", "7.4.1"),
        ("7.4-1", "7.4-2"),
        ("7.4dev3", "7.4rc1"),
    ],
)
def test_versions_are_ordered(earlier, further):
    assert compare(earlier, further) == -1
    assert compare(further, earlier) == 1


@pytest.mark.parametrize(("one", "other"), [("7.4full", "7.4lite"), ("7.4a", "7.4.1")])
def test_versions_that_cannot_be_ordered_are_neither_older_nor_newer(one, other):
    assert compare(one, other) is None
    assert later(one, other) is None


def test_a_scheme_of_named_fields_orders_what_the_usual_order_gets_wrong():
    scheme = re.compile(r"B(?P<build>\d+)_(?P<train>[A-Z])")
    assert compare("B9_Z", "B10_A", scheme) == -1
    assert compare("B9_Z", "unlike", scheme) is None


@given(versions, versions)
def test_order_is_the_same_from_both_sides(one, other):
    order = compare(one, other)
    assert compare(other, one) == (None if order is None else -order)


@given(versions, versions, versions)
def test_order_carries_over(one, two, three):
    if compare(one, two) == -1 and compare(two, three) == -1:
        assert compare(one, three) == -1


def test_a_version_that_is_not_known_is_not_later():
    assert later(None, "1.0") is None


@given(st.integers(0, 2**60))
def test_bytes_read_back_as_themselves(size):
    assert parse_size(str(size)) == size


@given(st.integers(0, 2**59))
def test_a_shown_size_has_three_figures_and_is_near(size):
    number, unit = show_size(size).split()
    assert float(number) < 1000
    assert abs(parse_size(f"{number}{unit}") - size) <= size / 100


@pytest.mark.parametrize("text", ["", "x", "-5", "5 apples", "1.2.3MB", "٣MB", "1e9"])
def test_what_is_no_size_is_refused(text):
    with pytest.raises(SizeError):
        parse_size(text)


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("flash:a.img", Place("flash", "a.img")),
        ("flash:/a.img", Place("flash", "a.img")),
        ("2/flash:dir/a.img", Place("flash", "dir/a.img", "2")),
        ("bank:primary", Place("bank", "primary")),
        ("flash:a.img ", Place("flash", "a.img ")),
    ],
)
def test_a_place_is_read_as_written(text, place):
    assert parse_place(text) == place


@pytest.mark.parametrize("text", ["", "a.img", ":a", "flash:", "flash:/", "a/b/c"])
def test_what_is_no_place_is_refused(text):
    with pytest.raises(PlaceError):
        parse_place(text)


@given(st.text("abc/: ", min_size=1))
def test_a_place_that_is_read_is_written_back_alike(text):
    try:
        place = parse_place(text)
    except PlaceError:
        return
    assert parse_place(str(place)) == place


def test_a_size_that_a_person_types_names_its_unit(ovek):
    told = ovek("cleanup", "sw", "--free", "10", exits=2).stderr
    assert "'10' has no unit; 10 MiB? (in bytes: 10B)" in told
    ovek("cleanup", "sw", "--free", "10B")
    ovek("cleanup", "sw", "--free", "10%", exits=None)
