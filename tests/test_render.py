"""Lines for a terminal, and results kept out of memory."""

import msgspec
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from builders import NOW
from ovek.files.spool import Spool
from ovek.model.finding import DeviceAudit
from ovek.render.lines import Columns, hanging, width
from ovek.render.visible import visible

words = st.text(st.characters(codec="utf-8"), max_size=40)


@given(st.text())
def test_visible_text_is_printable_and_leaves_printable_text_alone(text):
    assert visible(text).isprintable()
    if text.isprintable():
        assert visible(text) == text


@given(st.lists(st.tuples(words, words, words).map(lambda cells: [*map(visible, cells)])))
def test_columns_line_up_and_fit(rows):
    columns = Columns(("ONE", "TWO", "THREE"), wrap={1: 8})
    for row in rows:
        columns.measure(row)
    columns.fit(60)
    for row in rows:
        for line in columns.rows(row):
            assert cell_len(line.plain) <= 60
            assert line.plain.isprintable()


def test_what_is_cut_is_cut_in_its_middle():
    columns = Columns(("ONE", "TWO"))
    row = ("a" * 40 + "z" * 40, "b")
    columns.measure(row)
    columns.fit(40)
    assert columns.row(row).plain == f"{'a' * 11}…{'z' * 23}  b"


@given(st.lists(words.map(visible), min_size=1).map(" ".join))
def test_wrapped_text_loses_no_word(text):
    lines = [str(line) for line in hanging("  do:", text, indent=8)]
    assert lines[0].startswith("  do:   ")
    assert " ".join(lines).removeprefix("  do:").split() == text.split()
    assert all(len(line) <= width() or len(line.split()) <= 2 for line in lines)


def test_a_spool_gives_back_what_was_added_as_often_as_asked():
    audits = [
        DeviceAudit(
            device=f"sw{at}",
            taken_at=NOW,
            answer="go",
            next_boot="proven",
            running=None,
            boots=(),
            images=(),
            space=(),
            findings=(),
        )
        for at in range(3)
    ]
    spool = Spool(DeviceAudit)
    for audit in audits:
        spool.add(audit)
    assert list(spool) == audits
    assert list(spool) == audits
    assert [msgspec.json.decode(line)["device"] for line in spool.lines()] == ["sw0", "sw1", "sw2"]
