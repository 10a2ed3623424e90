"""For every rule one device that has it and one that nearly has it."""

import pytest

from builders import (
    CATALOG,
    MIB,
    POLICY,
    bank,
    device,
    digest,
    file_set,
    flash,
    image,
    judged,
    member,
    plain,
    published,
    release,
    sheet,
)
from ovek.engine.audit import audit_device
from ovek.engine.rules import RULES
from ovek.model.digest import Digests
from ovek.model.policy import Policy
from ovek.model.snapshot import Boot, Setting, Volume

ONE, TWO = "flash:sw-1.0.img", "flash:sw-2.0.img"
BANKS = sheet("banks", fallback="other-bank")


def audit(what, kind=None, catalog=CATALOG, policy=POLICY):
    found = judged(what, kind, catalog)
    return audit_device(found.device, found.judge, policy)


def said(what, kind=None, **more):
    """What an audit finds: rule, severity and place."""
    found = audit(what, kind, **more).findings
    return [(each.rule, each.severity, each.place) for each in found]


def sw(*files, boots=(ONE,), **more):
    return device(member(*files, boots=boots, **more), place=ONE)


def test_a_healthy_device_has_no_finding():
    assert said(sw(image("1.0"), image("2.0"))) == []


def test_an_altered_image_that_lies_unused_is_a_warning():
    assert said(sw(image("1.0"), image("2.0", content="x"))) == [("image-altered", "warning", TWO)]


def test_a_forged_collision_is_critical_wherever_it_lies():
    forged = Digests(md5=digest("sw-2.0.img"), sha512=digest("x", "sha512"))
    found = said(sw(image("1.0"), image("2.0", digests=forged)))
    assert found == [("image-altered", "critical", TWO)]


def test_an_altered_image_that_the_order_names_is_told_once_by_the_boot_rule():
    found = said(sw(image("1.0"), image("2.0", content="x"), boots=(TWO, ONE)))
    assert found == [("boot-target-broken", "critical", TWO)]
    found = said(sw(image("1.0"), image("2.0", content="x"), boots=(ONE, TWO)))
    assert found == [("boot-target-broken", "warning", TWO)]


def test_a_set_that_is_not_whole_is_told_once():
    volume = flash(image("1.0"), plain("a.set"), sets=(file_set("a.set", "pkg/gone"),))
    found = said(device(member(volumes=(volume,), boots=(ONE,)), place=ONE))
    assert found == [("image-altered", "warning", "flash:a.set")]


def test_an_image_cut_short():
    assert said(sw(image("1.0"), image("2.0", size=MIB, content="x"))) == [
        ("image-cut-short", "warning", TWO)
    ]


def test_an_unlisted_image_is_a_note_and_a_warning_where_it_starts():
    place = "flash:sw-9.9.img"
    assert said(sw(image("1.0"), image("9.9"))) == [("image-unlisted", "note", place)]
    assert said(sw(image("1.0"), image("9.9"), boots=(place,))) == [
        ("image-unlisted", "warning", place)
    ]


def test_unmeasured_images_are_told_as_one_and_the_one_that_starts_by_itself():
    files = [image(version, digests=None) for version in ("1.0", "2.0", "3.0")]
    assert said(sw(*files)) == [
        ("image-unmeasured", "warning", ONE),
        ("image-unmeasured", "note", TWO),
    ]


def test_a_disputed_image():
    catalog = published(release("1.0")) + published(
        release("1.0", digests=Digests(md5=digest("x")))
    )
    assert said(sw(image("1.0")), catalog=catalog) == [("image-disputed", "warning", ONE)]


def test_a_stranded_device_is_told_once_with_every_candidate_and_a_way_out():
    found = audit(sw(image("2.0"), image("1.0", content="x"), boots=("flash:gone", ONE))).findings
    assert [each.rule for each in found] == ["stranded"]
    assert "flash:gone is missing" in found[0].saw
    assert f"{ONE} is altered" in found[0].saw
    assert TWO in found[0].do


def test_a_stranded_device_without_a_sound_image_needs_one_copied():
    found = audit(sw(image("1.0", content="x"))).findings
    assert "copy a proven image" in found[0].do


def test_a_missing_boot_target_is_critical_where_it_leads():
    assert said(sw(image("1.0"), boots=(TWO, ONE))) == [("boot-target-missing", "critical", TWO)]
    assert said(sw(image("1.0"), boots=(ONE, TWO))) == [("boot-target-missing", "warning", TWO)]


def test_a_missing_target_names_the_nearest_real_name():
    found = audit(sw(image("1.0"), boots=("flash:sw-1.O.img", ONE))).findings
    assert "'sw-1.0.img'" in found[0].saw


def test_a_default_bank_that_cannot_start_is_critical():
    altered = bank("a", "1.0", digests=Digests(md5=digest("x")))
    what = device(member(banks=(altered, bank("b", "2.0")), default="a"), in_bank="b")
    assert said(what, BANKS) == [("boot-target-broken", "critical", "bank:a")]


def test_an_order_that_is_not_saved():
    assert said(sw(image("1.0"), image("2.0"), live=(TWO, ONE))) == [
        ("boot-order-unsaved", "warning", None)
    ]
    assert said(sw(image("1.0"), live=(ONE,))) == []
    unsaved = Boot(default_bank=Setting(live="a", saved="b"))
    both = (bank("a", "1.0"), bank("b", "2.0"))
    what = device(member(banks=both, boot=unsaved), in_bank="a")
    assert said(what, BANKS) == [("boot-order-unsaved", "warning", None)]


def test_a_running_image_that_is_gone():
    assert said(sw(image("2.0"), boots=(TWO,))) == [("running-image-gone", "warning", ONE)]


def test_a_running_image_on_a_volume_that_was_not_read_is_not_called_gone():
    what = sw(volumes=(Volume(name="flash", state="ok"),))
    assert "running-image-gone" not in [rule for rule, _, _ in said(what)]


def test_an_empty_bank_is_a_warning_only_where_it_leaves_no_way_back():
    two = (bank("a", "1.0"), bank("b"))
    assert said(device(member(banks=two, default="a"), in_bank="a"), BANKS) == [
        ("bank-empty", "warning", "bank:b")
    ]
    three = (bank("a", "1.0"), bank("b", "2.0"), bank("c"))
    assert said(device(member(banks=three, default="a"), in_bank="a"), BANKS) == [
        ("bank-empty", "note", "bank:c")
    ]
    first = (bank("a"), bank("b", "2.0"))
    assert said(device(member(banks=first, default="a"), in_bank="b"), BANKS) == [
        ("bank-empty", "critical", "bank:a")
    ]


def test_a_bad_bank():
    two = (bank("a", "1.0"), bank("b", state="bad"))
    assert said(device(member(banks=two, default="a"), in_bank="a"), BANKS) == [
        ("bank-bad", "warning", "bank:b")
    ]


@pytest.mark.parametrize(("reserve", "low"), [("501MiB", True), ("500MiB", False), ("6%", True)])
def test_free_space_below_the_reserve(reserve, low):
    found = said(sw(image("1.0")), policy=Policy(reserve=reserve))
    assert found == ([("free-space-low", "warning", "flash:")] if low else [])


def test_facts_that_are_missing_are_told_and_never_passed():
    assert said(sw(image("1.0"), boot=None)) == [("facts-missing", "warning", None)]
    assert said(device(member(image("1.0"), boots=(ONE,)), runs=None)) == [
        ("facts-missing", "note", None)
    ]
    nothing = audit(device(member(boots=None, volumes=None)))
    assert nothing.reload == "unknown"
    assert [each.rule for each in nothing.findings] == ["facts-missing"]


def test_members_are_named_where_there_are_several():
    other = member(image("1.0"), image("2.0", content="x"), boots=(ONE,), id="2")
    found = said(device(member(image("1.0"), boots=(ONE,)), other, place=ONE))
    assert found == [("image-altered", "warning", f"2/{TWO}")]


def test_removing_a_digest_never_turns_a_finding_into_a_pass():
    whole = sw(image("1.0", content="x"), image("2.0"), boots=(ONE, TWO))
    bare = sw(image("1.0", digests=None), image("2.0"), boots=(ONE, TWO))
    assert said(whole)
    assert said(bare)
    assert audit(bare).reload == "unproven"


def test_every_rule_has_a_slug_and_a_reason():
    for slug, rule in RULES.items():
        assert slug == rule.slug
        assert rule.reason.endswith(".")
