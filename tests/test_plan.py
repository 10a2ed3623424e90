"""The plan of a device: what a person would do, in the order in which a person would do it."""

import pytest
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    ONE,
    SIZE,
    THREE,
    TWO,
    bank,
    component,
    device,
    digest,
    file_set,
    flash,
    image,
    loads,
    member,
    order,
    plain,
    published,
    release,
    sheet,
)
from builders.chance import curious
from builders.planned import Planned
from ovek.model.digest import Digests
from ovek.model.policy import Policy
from ovek.model.snapshot import Bank, Boot, Config, Hardware, Setting

KEEP_ONE = Policy(target="2.0", reserve="0%", keep=1)
TARGET = Policy(target="2.0", reserve="0%")
BANKS, PAIRED = sheet("banks", fallback="other-bank"), sheet("paired", fallback="other-bank")


def old(*files, boots=(ONE,), **more):
    """A device that runs 1.0 from flash, saved and live settings alike."""
    return device(member(image("1.0"), *files, boots=boots, live=boots), place=ONE, **more)


def steps(what, kind=None, policy=KEEP_ONE, **more):
    return Planned(what, kind, policy=policy, **more).told


# ---- courses that a person would write -----------------------------------------------------------


def test_an_upgrade_is_a_copy_a_check_the_order_a_save_and_a_reload():
    assert steps(old()) == [
        f"copy to {TWO}", f"check-digest {TWO}", f"set-order {TWO} {ONE}", "save", "reload",
    ]  # fmt: skip


def test_a_target_on_flash_whose_order_names_a_file_that_is_gone_needs_only_the_order():
    what = device(member(image("2.0"), boots=(ONE,), live=(ONE,)), place=ONE)
    assert steps(what) == [f"set-order {TWO}", "save", "reload"]


def test_a_target_on_flash_that_stands_behind_the_old_one_is_put_first_and_nothing_is_copied():
    assert steps(old(image("2.0"), boots=(ONE, TWO))) == [
        f"set-order {TWO} {ONE}", "save", "reload",
    ]  # fmt: skip


def stack(*members, **more):
    units = [replace(each, id=str(at)) for at, each in enumerate(members, 1)]
    return device(*units, **{"running": "1.0", **more})


def test_a_stack_of_which_one_unit_is_prepared_goes_on_from_there_and_reloads_once():
    before = member(image("1.0"), boots=(ONE,), live=(ONE,))
    ready = member(image("1.0"), image("2.0"), boots=(TWO, ONE), live=(TWO, ONE))
    assert steps(stack(before, ready, before)) == [
        f"copy to 1/{TWO}", f"check-digest 1/{TWO}", f"copy to 3/{TWO}", f"check-digest 3/{TWO}",
        f"set-order 1/{TWO} {ONE}", "save 1/", f"set-order 3/{TWO} {ONE}", "save 3/", "reload",
    ]  # fmt: skip


def test_what_runs_and_is_gone_from_flash_is_copied_back_without_a_reload():
    what = device(member(boots=(TWO,), live=(TWO,)), running="2.0", place=TWO)
    assert steps(what) == [f"copy to {TWO}", f"check-digest {TWO}"]


def test_two_banks_are_brought_to_match_the_one_that_does_not_run_first():
    what = device(member(banks=(bank("a", "1.0"), bank("b", "1.0")), default="a"), in_bank="a")
    match = replace(TARGET, bank_rule="match")
    shelf = frozenset({digest("sw-1.0.img")})
    told = [
        "write-bank b", "check-digest bank:b", "set-default b", "save", "reload", "copy-bank b a",
    ]  # fmt: skip
    assert steps(what, BANKS, match, shelf=shelf) == told
    # The last copy of what may be needed again is taken off the device before it goes.
    assert steps(what, BANKS, match) == [*told[:5], "back-up bank:a", "copy-bank b a"]


def pair(trial, committed, *, running="c", version=None, free=500 * MIB, size=SIZE, **more):
    files = [image(committed, path="c/sw.img")]
    files += [image(trial, path="t/sw.img", size=size)] if trial is not None else []
    banks = (
        Bank(name="trial", state="ok" if trial else "empty",
             places=("flash:t/sw.img",) if trial else None),
        Bank(name="committed", state="ok", places=("flash:c/sw.img",)),
    )  # fmt: skip
    return member(volumes=(flash(*files, free=free),), banks=banks, **more)


def test_a_pair_is_tried_and_then_committed():
    what = device(pair("1.0", "1.0"), place="flash:c/sw.img")
    assert steps(what, PAIRED) == [
        "delete flash:t/sw.img", "copy to flash:t/sw-2.0.img", "check-digest flash:t/sw-2.0.img",
        "set-once bank:trial", "reload", "commit",
    ]  # fmt: skip


def test_a_component_that_is_loaded_from_a_file_gets_a_newer_file_before_the_reload():
    firmware = published(
        release("1", file="web-1.pkg", kind="component-image", carries={"web": "1"}, size=MIB),
        release("2", file="web-2.pkg", kind="component-image", carries={"web": "2"}, size=MIB),
        file="web.json",
    )
    images = published(release("1.0"), release("2.0", needs={"components": {"web": "2"}}))
    web = plain("web-1.pkg", MIB, digests=Digests(md5=digest("web-1.pkg")))
    what = device(
        member(
            image("1.0"), web, boots=(ONE,), live=(ONE,),
            components=(loads("web", "flash:web-1.pkg", version="1"),),
        ),
        place=ONE,
    )  # fmt: skip
    planned = Planned(what, catalog=[*firmware, *images], policy=KEEP_ONE)
    assert planned.told == [
        f"copy to {TWO}", f"check-digest {TWO}",
        "copy to flash:web-2.pkg", "check-digest flash:web-2.pkg", "set-component web",
        f"set-order {TWO} {ONE}", "save", "reload", "delete flash:web-1.pkg",
    ]  # fmt: skip
    (reload,) = [each for each in planned.book.steps if each.do.change == "reload"]
    assert reload.brings == ("web: 1 to 2",)


def test_a_target_that_fits_only_if_the_running_image_goes_is_blocked_and_says_what_would_help():
    what = device(
        member(volumes=(flash(image("1.0"), free=50 * MIB),), boots=(ONE,), live=(ONE,)), place=ONE
    )
    planned = Planned(what, policy=KEEP_ONE)
    assert planned.told == []
    (barred,) = planned.plan.barred
    assert (barred.needed, barred.available) == (SIZE, 50 * MIB)
    assert "100 MiB needed on flash" in barred.why and "50.0 MiB missing" in barred.why
    assert "--may-drop running (DANGER" in barred.words and "stick" in barred.words
    allowed = Planned(what, policy=KEEP_ONE, may_drop=frozenset({"running"}))
    assert allowed.told == [
        f"back-up {ONE}", f"delete {ONE}", f"copy to {TWO}", f"check-digest {TWO}",
        f"set-order {TWO}", "save", "reload",
    ]  # fmt: skip
    assert allowed.danger[0] == 2 and allowed.book.danger


def test_a_device_at_its_loader_is_booted_by_hand_and_then_the_rest_follows():
    what = replace(old(boots=(THREE,)), at="boot-loader")
    told = steps(what)
    assert told[0] == f"boot-by-hand {ONE}"
    assert told[1:] == [
        f"set-order {ONE}", "save", f"copy to {TWO}", f"check-digest {TWO}",
        f"set-order {TWO} {ONE}", "save", "reload",
    ]  # fmt: skip


def test_an_order_that_names_what_does_not_boot_is_not_gone_back_to():
    for boots, undo in (((THREE, ONE), ()), ((ONE,), (f"Set the boot order to {ONE}",))):
        what = device(member(image("1.0"), boots=boots, live=boots), place=ONE)
        steps_ = Planned(what, policy=KEEP_ONE).book.steps
        (order,) = [each for each in steps_ if each.do.change == "set-order"]
        assert order.undo == undo


def test_a_broken_package_of_the_set_that_runs_is_not_copied_as_if_it_were_an_image():
    catalog = published(
        release("1.0"), release("2.0", file="base-2.0.pkg", kind="package", size=MIB)
    )
    cut = plain("pkg/base-2.0.pkg", MIB - 1, digests=Digests(md5=digest("cut")))
    volume = flash(
        image("1.0"), cut, plain("a.set", 1), sets=(file_set("a.set", "pkg/base-2.0.pkg"),)
    )
    order_ = ("flash:a.set", ONE)
    what = device(
        member(volumes=(volume,), boots=order_, live=order_), running="2.0", place="flash:a.set"
    )
    planned = Planned(what, catalog=catalog, policy=Policy(keep=1, reserve="0%"))
    assert not [each for each in planned.told if each.startswith("copy to flash:base")]
    assert "a.set is broken" in planned.why


def test_nothing_is_reloaded_while_it_is_not_known_whether_the_configuration_is_read():
    def asked(setting):
        unit = member(image("1.0"), image("2.0"), boots=(ONE,), live=(ONE,), components=())
        mode = Setting(live="listed", saved="listed")
        boot = replace(unit.boot, ignores_saved_config=setting, mode=mode)
        what = device(replace(unit, boot=boot), place=ONE)
        return Planned(what, curious(sheet()), policy=KEEP_ONE)

    unknown = asked(Setting())
    assert "reload" not in unknown.told and "is unknown" in unknown.why
    assert asked(Setting(live=False, saved=False)).told[-1] == "reload"


# ---- what field trials saw -----------------------------------------------------------------------


def test_the_running_image_stays_where_only_the_reserve_is_short():
    short = replace(KEEP_ONE, reserve="30MiB")
    volume = flash(image("1.0"), plain("a.dump", 2 * MIB), free=SIZE + 10 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,), live=(ONE,)), place=ONE)
    told = steps(what, policy=short)
    assert f"delete {ONE}" not in told and told[-1] == "reload"


def test_the_running_image_stays_though_an_older_one_stands_behind_it_in_the_order():
    volume = flash(image("1.0"), image("0.9"), free=50 * MIB)
    catalog = [*CATALOG, *published(release("0.9"), file="old.json")]
    behind = (ONE, "flash:sw-0.9.img")
    what = device(member(volumes=(volume,), boots=behind, live=behind), place=ONE)
    planned = Planned(what, catalog=catalog, policy=TARGET)
    assert f"delete {ONE}" not in planned.told
    assert planned.told == [
        f"set-order {ONE}", "save", "back-up flash:sw-0.9.img", "delete flash:sw-0.9.img",
        f"copy to {TWO}", f"check-digest {TWO}", f"set-order {TWO} {ONE}", "save", "reload",
    ]  # fmt: skip


def test_a_file_that_is_gone_is_not_copied_back_where_the_target_ends_everything():
    what = device(member(boots=(ONE,), live=(ONE,)), place=ONE)
    assert steps(what) == [
        f"copy to {TWO}", f"check-digest {TWO}", f"set-order {TWO}", "save", "reload",
    ]  # fmt: skip


def larger_pair(clutter):
    """A pair whose new image is 30 MiB larger than the old one, beside a file that may go."""
    unit = pair("1.0", "1.0", free=10 * MIB)
    files = (*unit.volumes[0].files, plain("a.dump", clutter))
    return device(
        replace(unit, volumes=(replace(unit.volumes[0], files=files),)), place="flash:c/sw.img"
    )


def test_a_pair_whose_new_image_is_larger_than_the_old_one_makes_space_beside_it():
    larger = published(release("1.0"), release("2.0", size=SIZE + 30 * MIB))
    assert steps(larger_pair(60 * MIB), PAIRED, catalog=larger) == [
        "delete flash:a.dump", "delete flash:t/sw.img", "copy to flash:t/sw-2.0.img",
        "check-digest flash:t/sw-2.0.img", "set-once bank:trial", "reload", "commit",
    ]  # fmt: skip


def test_a_pair_is_not_begun_where_there_is_no_space_for_the_commit():
    larger = published(release("1.0"), release("2.0", size=SIZE + 30 * MIB))
    planned = Planned(larger_pair(40 * MIB), PAIRED, larger, KEEP_ONE)
    assert "reload" not in planned.told and "missing" in planned.why


def test_a_commit_of_which_half_would_not_boot_is_made_while_the_trial_boots_next():
    alone = sheet("paired", fallback="none")
    what = device(pair("2.0", "1.0"), running="2.0", place="flash:t/sw.img")
    planned = Planned(what, alone, policy=KEEP_ONE)
    assert planned.told == ["set-once bank:trial", "commit", "set-once nothing"]
    assert planned.danger == []


def test_two_supervisors_on_an_uncommitted_trial_of_the_target_are_committed_together():
    what = stack(
        pair("2.0", "1.0", id="1"),
        pair("2.0", "1.0", id="2"),
        running="2.0",
        place="flash:t/sw.img",
    )
    told = steps(what, PAIRED)
    assert [each for each in told if each.startswith("commit")] == ["commit 1/", "commit 2/"]
    assert "reload" not in told


def test_units_of_different_revisions_each_get_the_file_that_is_for_them():
    catalog = published(
        release("1.0"),
        release("2.0", file="sw-2.0.img", revisions=("B*",), hardware=("SW*",)),
        release("2.0", file="sw-2.0-c.img", revisions=("C*",), hardware=("SW*",)),
    )

    def unit(revision):
        hardware = Hardware(model="SW10", revision=revision)
        return member(image("1.0"), boots=(ONE,), live=(ONE,), hardware=hardware)

    told = steps(stack(unit("B1"), unit("C1")), catalog=catalog)
    assert f"copy to 1/{TWO}" in told and "copy to 2/flash:sw-2.0-c.img" in told
    assert told.count("reload") == 1


def test_a_version_that_two_files_have_means_the_one_that_is_for_the_device():
    catalog = published(
        release("1.0"), release("2.0", hardware=("SW*",)),
        release("2.0", file="ap-2.0.img", hardware=("AP*",)),
    )  # fmt: skip
    assert steps(old(), catalog=catalog)[0] == f"copy to {TWO}"


def test_a_running_bank_that_is_bad_on_flash_is_left_and_the_other_one_is_written():
    banks = (replace(bank("a", "1.0"), state="bad"), bank("b"))
    what = device(member(banks=banks, default="a"), in_bank="a")
    told = steps(what, BANKS, TARGET)
    assert told[:5] == [
        "write-bank b", "check-digest bank:b", "set-default b", "save", "reload",
    ]  # fmt: skip


def test_a_device_that_runs_without_its_saved_configuration_is_backed_up_and_never_saved_over():
    boot = Boot(
        order=Setting(live=order(ONE), saved=order(ONE)),
        ignores_saved_config=Setting(live=True, saved=True),
    )
    what = device(
        replace(member(image("1.0")), boot=boot), place=ONE, config=Config(unsaved_changes=True)
    )
    told = steps(what, policy=replace(KEEP_ONE, target="1.0"))
    assert told == ["back-up configuration", "heed-config"]
    fine = replace(boot, ignores_saved_config=Setting(live=False, saved=False))
    what = replace(what, members=(replace(what.members[0], boot=fine),))
    assert steps(what, policy=replace(KEEP_ONE, target="1.0")) == ["save configuration"]


def test_no_reload_while_the_saved_configuration_would_be_ignored():
    boot = Boot(
        order=Setting(live=order(ONE), saved=order(ONE)),
        ignores_saved_config=Setting(live=False, saved=True),
    )
    told = steps(device(replace(member(image("1.0")), boot=boot), place=ONE))
    assert told.index("heed-config") < told.index("reload")


def test_a_wanted_image_of_another_variant_is_never_made_the_next_boot():
    catalog = published(
        release("1.0", variant="full"), release("2.0", variant="full"),
        release("2.0", file="lite-2.0.img", variant="lite"),
    )  # fmt: skip
    lite = plain("lite-2.0.img", SIZE, digests=Digests(md5=digest("lite-2.0.img")))
    names = (r"(sw|lite)-(?P<version>[0-9][0-9a-z.]*)\.img",)
    told = steps(old(lite), sheet(names=names), catalog=catalog)
    assert not any("lite" in each and each.startswith("set-order") for each in told)
    assert f"copy to {TWO}" in told


def test_a_withdrawn_target_is_not_brought_and_the_plan_says_why():
    catalog = published(release("1.0"), release("2.0", status="withdrawn"))
    planned = Planned(old(), catalog=catalog, policy=KEEP_ONE)
    assert planned.told == [] and "withdrawn" in planned.why


def test_evidence_of_a_forged_image_is_taken_off_the_device_before_it_goes():
    both = Digests(md5=digest("sw-2.0.img"), sha512=digest("evil", "sha512"))
    forged = image("2.0", digests=both)
    told = steps(old(forged))
    assert told[:3] == [f"back-up {TWO}", f"copy to {TWO}", f"check-digest {TWO}"]


def test_a_target_on_a_stick_is_copied_from_there():
    stick = flash(image("2.0"), name="usb", removable=True)
    what = device(
        member(volumes=(flash(image("1.0")), stick), boots=(ONE,), live=(ONE,)), place=ONE
    )
    planned = Planned(what, policy=KEEP_ONE)
    assert planned.told[0] == f"copy to {TWO}" and planned.dos[0].source == "usb:sw-2.0.img"
    assert planned.plan.after.walk.members[0].boots.place == TWO


def test_without_a_shelf_a_backup_is_no_step_that_never_ends():
    volume = flash(image("1.0"), image("0.9"), free=50 * MIB)
    catalog = [*CATALOG, *published(release("0.9"), file="old.json")]
    what = device(member(volumes=(volume,), boots=(ONE,), live=(ONE,)), place=ONE)
    with_shelf = Planned(what, catalog=catalog, policy=TARGET)
    without = Planned(what, catalog=catalog, policy=TARGET, shelf=None)
    assert "back-up flash:sw-0.9.img" in with_shelf.told
    assert without.told == [each for each in with_shelf.told if not each.startswith("back-up")]


def test_a_digest_that_was_checked_is_remembered_once_the_plan_is_asked_for_again():
    planned = Planned(old(), policy=KEEP_ONE)
    assert planned.after(1).told == planned.told[1:]
    assert planned.after(2).told == planned.told[2:]


def test_what_is_fixed_is_said_with_the_step_after_which_it_is():
    planned = Planned(old(), policy=KEEP_ONE)
    assert planned.fixed["release-not-target"] == 5
    there = device(member(image("2.0"), boots=(TWO,), live=(TWO,)), running="2.0", place=TWO)
    assert Planned(there, policy=KEEP_ONE).told == []


def test_a_reload_is_last_and_the_same_never_runs_after_it():
    what = device(member(image("1.0"), image("1.0", path="b.img"), boots=(ONE,)), place=ONE)
    assert "reload" not in steps(what, policy=replace(KEEP_ONE, target="1.0"))


def test_a_firmware_load_is_told_as_danger():
    catalog = published(
        release("1.0"), release("2.0", needs={"components": {"boot-loader": "2"}}),
        release("2", file="ldr-2.img", kind="component-image", carries={"boot-loader": "2"},
                size=MIB),
    )  # fmt: skip
    loader = component("boot-loader", "1")
    what = device(member(image("1.0"), boots=(ONE,), live=(ONE,), components=(loader,)), place=ONE)
    planned = Planned(what, catalog=catalog, policy=KEEP_ONE)
    (number,) = planned.danger
    assert planned.told[number - 1] == "load-component boot-loader"
    assert planned.book.danger == (number,)


def test_what_is_left_open_is_said_with_its_member():
    small = member(volumes=(flash(image("1.0"), free=10 * MIB),), boots=(ONE,), live=(ONE,))
    wide = member(image("1.0"), boots=(ONE,), live=(ONE,))
    book = Planned(stack(wide, small), policy=KEEP_ONE).book
    assert book.steps == ()
    assert {each.member for each in book.open if each.member} == {"2"} or any(
        each.place and each.place.startswith("2/") for each in book.open
    )


@pytest.mark.parametrize("order_", [(ONE, THREE), (ONE, ONE)])
def test_an_order_is_never_set_back_to_a_file_that_does_not_exist(order_):
    what = device(member(image("1.0"), boots=order_, live=order_), place=ONE)
    told = steps(what, policy=replace(KEEP_ONE, target="1.0"))
    assert told == [f"set-order {ONE}", "save"]


def test_a_device_without_a_target_stays_on_what_it_runs():
    assert steps(old(image("2.0")), policy=Policy(reserve="0%", keep=1)) == []


def test_a_device_is_not_moved_where_one_of_its_members_cannot_be():
    other = member(image("1.0"), boots=(ONE,), live=(ONE,), hardware=Hardware(model="AP9"))
    catalog = published(release("1.0"), release("2.0", hardware=("SW*",)))
    planned = Planned(
        stack(member(image("1.0"), boots=(ONE,), live=(ONE,)), other), catalog=catalog,
        policy=KEEP_ONE,
    )  # fmt: skip
    assert planned.told == [] and planned.plan.barred
