"""Lines to type: no name that a device or a file tells can put anything into one."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from builders import MIB, ONE, POLICY, audit, device, flash, image, judged, member, plain, sheet
from builders.results import ALL, result
from ovek.engine import change_text
from ovek.engine.cleanup import plan_device, with_deletions
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.model import change as do
from ovek.model.place import Place
from ovek.model.plain_word import is_plain
from ovek.model.plan import Room
from ovek.model.results.cleanup import CleanupPlans
from ovek.model.sheet import WORDING
from ovek.model.snapshot import BootEntry
from ovek.render.checklist import checklist
from ovek.render.cleanup import cleanup

WORDED = replace(
    sheet(roles={"crash-file": ("*.dump",)}),
    wording={"delete": "cast off {volume} {path}", "check-digest": "digest {path}"},
)
HOSTILE = [
    "a\ncast off flash sw-1.0.img\n.dump",
    "a\r\n```\n# now type this.dump",
    "`reboot`.dump",
    "$(reboot).dump",
    "x; reboot.dump",
    "a b.dump",
    "-rf.dump",
    "a\x1b[2J.dump",
    "a\u202egmi.dump",
    "a'b.dump",
    'a"b.dump',
    "a|b.dump",
    "a>b.dump",
    "a{path}.dump",
]


def plans(name):
    volume = flash(image("1.0"), plain(name, 30 * MIB))
    found = judged(device(member(volumes=(volume,), boots=(ONE,)), place=ONE), WORDED)
    asked = SpaceAsked(policy=POLICY, room=Room(sweep=1))
    return with_deletions(found, plan_device(found, asked), asked)


def shown(name):
    planned = result(CleanupPlans, plans=plans(name), caption="")
    text = "\n".join(str(line) for line in cleanup(planned, ALL))
    return text, b"".join(checklist(planned, ALL)).decode()


@pytest.mark.parametrize("name", HOSTILE)
def test_a_name_that_is_not_plain_is_never_part_of_a_line_to_type(name):
    do = next(each.do for each in plans(name)[0].steps if each.do.change == "delete")
    assert (do.lines, do.by_hand) == ((), True)
    text, boxes = shown(name)
    for told in (text, boxes):
        assert "cast off flash sw-1.0.img" not in re.sub(r"\\\\x0a.*", "", told).splitlines()
        assert not any(line.strip().startswith("cast off") for line in told.splitlines())
        assert "unsafe characters" in told
        assert "type it yourself" in told
        assert all(char.isprintable() for char in told.replace("\n", ""))


def test_a_plain_name_is_typed_as_it_stands():
    do = next(each.do for each in plans("crash/a_1-2.dump")[0].steps if each.do.change == "delete")
    assert (do.lines, do.by_hand) == (("cast off flash crash/a_1-2.dump",), False)
    text, boxes = shown("crash/a_1-2.dump")
    assert "type: cast off flash crash/a_1-2.dump" in text
    assert "  ```\n  cast off flash crash/a_1-2.dump\n  ```" in boxes


@given(st.text(min_size=1, max_size=12))
def test_a_plain_name_is_one_word_without_a_sign_that_means_something(name):
    if is_plain(name):
        assert name.isascii() and name.isprintable() and not name.startswith("-")
        assert not set(name) & set(" \t\n`$;|&<>(){}[]*?!#'\"\\^")


def test_what_a_finding_says_to_type_holds_no_strange_name():
    what = device(member(volumes=(flash(image("1.0"), free=0),), boots=(ONE,)), place=ONE,
                  device="sw; reboot", running=None)  # fmt: skip
    told = [one.words for one in audit(what, policy=replace(POLICY, reserve="5%")).findings]
    assert any("ovek cleanup DEVICE --free" in each for each in told)
    assert not any("reboot" in each for each in told)


def test_a_wording_with_a_line_break_is_refused(ovek):
    text = (ovek.folder / "sheets/switch.toml").read_text()
    ovek.write("sheets/switch.toml", text + '[wording]\ndelete = "drop\\nreboot"\n')
    assert "use one line of plain text" in ovek.refuses("cleanup", "--free", "1MiB")


PATH, BANK = Place("flash", "a.img", "1"), Place("bank", "A", "1")
NEW, DIGESTS = do.NewContent(name="b.img", version="2.0"), (("md5", "a" * 32),)
CHANGES = [
    do.CheckDigest(place=PATH, digests=DIGESTS), do.CheckDigest(place=BANK, digests=DIGESTS),
    do.BackUp(), do.BackUp(place=PATH), do.BackUp(place=BANK), do.Delete(place=PATH),
    do.Copy(place=PATH, content=NEW), do.Copy(place=PATH, content=NEW, source=PATH),
    do.WriteBank(member="1", bank="A", content=NEW), do.CopyBank(member="1", source="A", bank="B"),
    do.LoadComponent(member="1", component="boot", version="2", slot="1", image="c.img"),
    do.SetComponent(member="1", component="boot", place=PATH), do.BootByHand(places=(PATH, BANK)),
    do.SetOrder(member="1", entries=()), do.SetMode(member="1", mode="listed"),
    do.SetDefault(member="1", bank="A"), do.SetOnce(member="1", entry=None),
    do.SetOnce(member="1", entry=BootEntry(place="bank:A")),
    do.SetOnce(member="1", entry=BootEntry(place="flash:a.img")),
    do.HeedConfig(member="1"), do.Save(member="1"), do.Save(member=None), do.Commit(member="1"),
    do.Reload(),
]  # fmt: skip


def test_what_a_line_of_wording_may_name_is_what_a_change_fills_in():
    """For a sheet that words everything, and one whose lines stand in for others."""
    filled: dict[str, set[str]] = {}
    for left_out in ((), ("set-default", "set-once", "save-config")):
        wording = {kind: "do" for kind in WORDING if kind not in left_out}
        worded = replace(WORDED, wording=wording)
        for change in CHANGES:
            for kind, words in change_text._typed(change, worded):
                filled.setdefault(kind, set()).update(words)
    assert filled == {kind: set(words) for kind, words in WORDING.items()}
