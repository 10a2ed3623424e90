"""What is wanted: policy.toml and waivers.toml, as they are written, checked and followed."""

import json
import os
from datetime import date

import pytest

from builders import (
    CATALOG,
    NOW,
    ONE,
    TWO,
    audit,
    device,
    image,
    judged,
    member,
    published,
    release,
)
from ovek.engine.wanted import ContradictionError, Wants
from ovek.model.policy import Policy, Want
from ovek.model.waiver import Waiver

RECOMMENDED = published(
    release("1.0", hardware=("SW*",), status="recommended", track="maintenance"),
    release("2.0", hardware=("SW*",), status="recommended", track="feature"),
    release("3.0", hardware=("AP*",), status="recommended"),
)
WAIVER = Waiver(
    rule="image-unlisted", device="s*", by="A. Flett", why="trial", until=date(2026, 3, 2)
)


def wanted(policy, *, role=None, catalog=RECOMMENDED):
    found = judged(member(image("1.0"), boots=(ONE,)), catalog=catalog)
    return Wants(policy, {"sw": role}).of(found)


def wants(*several):
    return Policy(want=tuple(several))


def unlisted(**more):
    what = device(member(image("1.0"), image("9.9"), boots=(ONE,)), place=ONE)
    return next(f for f in audit(what, **more).findings if f.rule == "image-unlisted")


def test_the_narrowest_want_counts():
    by_device, by_role = Want(device="sw", target="4"), Want(role="core", target="3")
    by_model, by_sheet = Want(model="SW*", target="2"), Want(sheet="switch", target="1")
    every = [by_sheet, by_model, by_role, by_device]
    for number, policy in enumerate((every[:1], every[:2], every[:3], every), 1):
        assert wanted(wants(*policy), role="core").target == str(number)
    assert wanted(wants(*every), role="edge").target == "4"


def test_an_exact_name_comes_before_a_glob_and_what_is_left_open_is_told_by_a_wider_want():
    policy = Policy(
        track="feature",
        want=(Want(device="s*", target="1"), Want(device="sw", target="2"),
              Want(sheet="switch", allowed=("2*",))),
    )  # fmt: skip
    found = wanted(policy)
    assert (found.target, found.allowed, found.track) == ("2", ("2*",), "feature")


def test_two_wants_that_contradict_each_other_are_refused():
    with pytest.raises(ContradictionError, match=r"target of sw is wanted as 1 .* and 2 "):
        wanted(wants(Want(device="s*", target="1"), Want(device="*w", target="2")))
    assert wanted(wants(Want(device="s*", target="1"), Want(device="*w", target="1"))).target == "1"


def test_the_recommended_release_is_the_newest_for_the_hardware_and_the_track():
    assert wanted(Policy(target="recommended")).target == "2.0"
    assert wanted(Policy(target="recommended", track="maintenance")).target == "1.0"
    assert wanted(Policy(target="recommended"), catalog=CATALOG).target is None


def test_a_severity_that_policy_changes_and_a_rule_that_it_turns_off():
    assert unlisted(policy=Policy(severity={"image-unlisted": "critical"})).severity == "critical"
    with pytest.raises(StopIteration):
        unlisted(policy=Policy(severity={"image-unlisted": "off"}))


def test_a_waiver_holds_to_the_end_of_its_last_day_and_an_ended_one_says_so():
    assert "by A. Flett, until 2026-03-02. Reason: trial" in unlisted(waivers=[WAIVER]).waived
    later = unlisted(waivers=[WAIVER], now=NOW.replace(day=3))
    assert later.waived is None
    assert later.seen.endswith("was waived by A. Flett, and that waiver expired on 2026-03-02")
    assert unlisted(waivers=[Waiver(rule="image-altered", device="*", by="x", why="y",
                                    until=date(2030, 1, 1))]).waived is None  # fmt: skip


def test_an_audit_takes_waivers_from_the_site_and_tells_of_those_of_no_use(ovek):
    ovek.snapshot(device(member(image("1.0"), image("9.9"), boots=(ONE,)), place=ONE))
    head = '[[waiver]]\ndevice = "sw"\nby = "me"\nwhy = "trial"\nuntil = 2999-01-01\n'
    ovek.write("waivers.toml", f'{head}rule = "image-unlisted"\n{head}rule = "stranded"\n')
    shown = ovek("audit").stdout
    assert "1 waived" in shown
    assert "waived: by me, until 2999-01-01. Reason: trial" in shown
    assert "Unused waiver: stranded on sw" in shown
    answer = ovek.json("audit")
    assert [one["rule"] for one in answer["unused_waivers"]] == ["stranded"]
    assert answer["summary"]["waived"] == 1
    assert ovek.json("audit", "--only", "stranded")["unused_waivers"] == []


def test_a_waived_finding_does_not_count_against_the_threshold(ovek):
    ovek.snapshot(device(member(image("1.0"), boots=(TWO, ONE)), place=ONE))
    ovek("audit", exits=1)
    accepted = '[[waiver]]\nrule = "{}"\ndevice = "*"\nby = "me"\nwhy = "lab"\nuntil = 2999-01-01\n'
    ovek.write("waivers.toml", accepted.format("boot-target-missing"))
    ovek("audit")


def test_nobody_can_waive_that_nothing_starts(ovek):
    ovek.snapshot(device(member(image("1.0", content="x"), boots=(ONE,)), place=ONE))
    accepted = '[[waiver]]\nrule = "{}"\ndevice = "*"\nby = "me"\nwhy = "lab"\nuntil = 2999-01-01\n'
    ovek.write("waivers.toml", accepted.format("stranded"))
    assert "no-go, nothing bootable" in ovek("audit", exits=1).stdout


def test_every_mistake_of_a_policy_is_told_at_once_with_the_nearest_name(ovek):
    ovek.write(
        "policy.toml",
        """
target = "9.0"
keep = 1
bank_rule = "previous"
severity = { image-unlsted = "off" }
[[want]]
sheet = "swich"
target = "2.0"
[[want]]
device = "sw"
target = "2.0"
allowed = ["1.*"]
[[want]]
device = "sw"
target = "1.0"
""",
    )
    ovek.write("waivers.toml", '[[waiver]]\nrule = "strandd"\ndevice = "swx"\nby = " "\n'
               'why = "x"\nuntil = 2999-01-01\n')  # fmt: skip
    for typed in (["policy", "check"], ["audit"]):
        told = ovek(*typed, exits=2).stderr
        unlisted = "key target: release of version '9.0' does not exist"
        assert (unlisted in told) == (typed != ["audit"]), "it costs its devices their target only"
        for part in (
            "key keep: keep is 1",
            "Did you mean 'image-unlisted'?",
            "key want[0].sheet: sheet 'swich' does not exist. Did you mean 'switch'?",
            "key want[1].target: the target 2.0 is not one of the allowed versions",
            "key want[2].target: device sw is wanted to have target 1.0, and by want[1] 2.0",
            "key waiver[0].rule: rule 'strandd' does not exist. Did you mean 'stranded'?",
            "key waiver[0].device: device 'swx' does not exist. Did you mean 'sw'?",
            "key waiver[0].by: by is empty",
        ):
            assert part in told
        assert len(told.splitlines()) == 8 + (typed != ["audit"])


@pytest.mark.parametrize(
    ("written", "told"),
    [
        ("[[want]]\ntarget = '1.0'", "want[0]: this [[want]] names no devices"),
        ("[[want]]\ndevice = 'sw'", "sets nothing"),
        ("[[want]]\ndevice='sw'\nrole='x'\ntarget='1.0'", "names device and role"),
        ("reserve = 'much'", "use a size (64MiB) or a percentage"),
        ("snapshot_age = 'old'", "use hours, days or weeks: 36h, 7d, 2w"),
        ("weakest_digest = 'crc'", "Use one of: md5, sha1, sha256, sha512"),
        ("severity = {stranded = 'mild'}", "'mild' is not valid here"),
        ("colour = 'red'", "unknown key 'colour'"),
    ],
)
def test_a_policy_that_cannot_be_read_is_refused_by_key(ovek, written, told):
    ovek.write("policy.toml", written)
    assert told in ovek.refuses("policy", "check")


def test_two_unreadable_parts_of_a_policy_are_told_together(ovek):
    ovek.write("policy.toml", "keep = 0\n[[want]]\ndevice='sw'\n[[want]]\nrole=7\ntarget='1'\n")
    told = ovek("policy", "check", exits=2).stderr.splitlines()
    assert len(told) == 3
    assert "key want[1].role" in told[2]


@pytest.mark.parametrize("key", ["rule", "device", "by", "why", "until"])
def test_a_waiver_without_an_end_or_a_reason_is_refused(ovek, key):
    parts = {"rule": "'stranded'", "device": "'sw'", "by": "'me'", "why": "'x'",
             "until": "2999-01-01"}  # fmt: skip
    lines = [f"{name} = {value}" for name, value in parts.items() if name != key]
    ovek.write("waivers.toml", "[[waiver]]\n" + "\n".join(lines))
    told = ovek.refuses("audit")
    assert f"waiver[0].{key}" in told
    assert "missing key" in told


def test_a_contradiction_that_only_the_hardware_shows_is_told_by_the_audit(ovek):
    text = "[[want]]\nmodel = 'SW*'\ntarget = '1.0'\n[[want]]\nmodel = '*10'\ntarget = '2.0'\n"
    ovek.write("policy.toml", text)
    ovek("policy", "check")
    assert "wanted as 1.0 (for model SW*) and 2.0 (for model *10)" in ovek.refuses("audit")


def test_a_sound_policy_is_shown_and_given_as_json(ovek):
    ovek.write("policy.toml", 'target = "2.0"\n[[want]]\ndevice = "s*"\ntrack = "feature"\n')
    shown = ovek("policy", "check").stdout
    assert shown.startswith(
        "policy.toml and waivers.toml: no mistakes (1 [[want]] rule, 0 waivers)."
    )
    assert "device s*:    track feature" in shown
    answer = json.loads(ovek("policy", "check", "--format", "json").stdout)
    assert answer["policy"]["target"] == "2.0"
    assert answer["policy"]["keep"] == 2


def test_the_rules_are_listed_told_whole_and_refused_with_the_nearest(ovek):
    listed = ovek("rules").stdout
    assert "rules; ovek rules RULE explains one." in listed.splitlines()[0]
    assert "do:" in ovek("rules", "stranded").stdout
    answer = ovek.json("rules")
    assert {"slug", "severity", "reason", "remedy", "group"} <= set(answer["rules"][0])
    assert "did you mean 'stranded'?" in ovek("rules", "strandet", exits=2).stderr


def test_a_copy_of_the_configuration_on_the_shelf_counts_as_a_backup(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    ovek.snapshot(*[device(member(image("1.0")), device=name) for name in ("a", "a-1", "b")])
    ovek.write("policy.toml", 'format = "ovek.policy/1"\nbackups = "conf/{device}*.cfg"\n')
    ovek.write("shelf/conf/a-1.cfg", "x")
    ovek.write("shelf/conf/b-2026.cfg", "x")
    ovek.write("shelf/b.cfg", "x")
    os.utime(ovek.folder / "shelf/conf/b-2026.cfg", (0, 0))

    def told():
        found = ovek.json("audit", exits=None)["devices"]
        rules = {one["device"]: {each["rule"] for each in one["findings"]} for one in found}
        return {name: {r for r in some if r.startswith("backup")} for name, some in rules.items()}

    assert told() == {"a": {"backup-never"}, "a-1": set(), "b": {"backup-old"}}
    ovek.write("policy.toml", 'format = "ovek.policy/1"\n')
    assert told() == {"a": set(), "a-1": set(), "b": set()}
    ovek.write("policy.toml", 'format = "ovek.policy/1"\nbackups = "conf/*.cfg"\n')
    assert "it must contain {device} once" in ovek.refuses("audit")
    ovek.write("policy.toml", 'format = "ovek.policy/1"\nbackups = "/srv/{device}.cfg"\n')
    assert "use a path below the shelf" in ovek.refuses("audit")
