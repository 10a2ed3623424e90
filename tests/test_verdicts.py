import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import (
    CATALOG,
    SIZE,
    bank,
    device,
    digest,
    file_set,
    flash,
    image,
    judged,
    loads,
    member,
    plain,
    published,
    release,
    sheet,
)
from ovek.engine.bootwalk import walk_device
from ovek.model.digest import Digests
from ovek.model.naming import Naming, glob_pattern
from ovek.model.snapshot import Hardware

OTHER = digest("something else")


def verdict_of(file, catalog=CATALOG, **volume):
    """The judgement of a file on flash; None where it is no image."""
    one = judged(member(volumes=(flash(file, **volume),)), catalog=catalog).members[0]
    images = list(one.images.values())
    return images[0].judgement if images else None


def test_a_published_digest_proves():
    judgement = verdict_of(image("1.0"))
    assert (judgement.verdict, judgement.by) == ("proven", "md5")


def test_a_published_digest_proves_whatever_the_file_is_called():
    judgement = verdict_of(plain("holiday.bin", digests=Digests(md5=digest("sw-2.0.img"))))
    assert judgement.verdict == "proven"
    assert judgement.release.file == "sw-2.0.img"


def test_the_strongest_common_digest_counts():
    both = Digests(md5=digest("sw-1.0.img"), sha512=digest("sw-1.0.img", "sha512"))
    assert verdict_of(image("1.0", digests=both)).by == "sha512"


def test_a_weak_digest_that_agrees_while_a_strong_one_does_not_is_altered_as_if_forged():
    forged = Digests(md5=digest("sw-1.0.img"), sha512=digest("other", "sha512"))
    judgement = verdict_of(image("1.0", digests=forged))
    assert (judgement.verdict, judgement.forged) == ("altered", True)
    assert "SHA-512" in judgement.why


@pytest.mark.parametrize(
    ("more", "verdict"),
    [
        ({"size": SIZE - 1}, "truncated"),
        ({"size": SIZE - 1, "digests": None}, "truncated"),
        ({"content": "flipped"}, "altered"),
        ({"size": SIZE + 1, "digests": None}, "altered"),
        ({"digests": None}, "unverified"),
        ({"digests": Digests(sha256="0" * 64)}, "unverified"),
        ({"size": None, "digests": None}, "unverified"),
    ],
)
def test_a_published_name_is_held_against_its_release(more, verdict):
    assert verdict_of(image("1.0", **{"content": "other", **more})).verdict == verdict


def test_names_are_case_blind_on_fat_only():
    file = image("1.0", path="SW-1.0.IMG", content="flipped")
    assert verdict_of(file, filesystem="fat32").verdict == "altered"
    assert verdict_of(file, filesystem="ext4") is None


def test_a_name_that_looks_like_an_image_and_is_not_published_is_unlisted():
    assert verdict_of(image("9.9")).verdict == "unlisted"


def test_what_is_no_image_gets_no_verdict():
    assert verdict_of(plain("notes.txt", digests=Digests(md5=OTHER))) is None


def disputed_catalog(**more):
    two = [release("1.0", digests=Digests(md5=text)) for text in (digest("sw-1.0.img"), OTHER)]
    return published(two[0]) + published(two[1], file="second.md5")


def test_a_digest_on_which_sources_disagree_proves_nothing():
    for content in ("sw-1.0.img", "something else"):
        judgement = verdict_of(image("1.0", content=content), disputed_catalog())
        assert judgement.verdict == "disputed"
        assert "list.json:1" in judgement.why
        assert "second.md5:1" in judgement.why


def test_a_digest_that_neither_source_gives_is_disputed_not_altered():
    judgement = verdict_of(image("1.0", content="third"), disputed_catalog())
    assert judgement.verdict == "disputed"


def test_an_undisputed_digest_still_proves_a_disputed_release():
    catalog = disputed_catalog() + published(
        release("1.0", digests=Digests(sha512=digest("x", "sha512")))
    )
    both = Digests(md5=OTHER, sha512=digest("x", "sha512"))
    assert verdict_of(image("1.0", digests=both), catalog).by == "sha512"


def test_two_publishers_may_use_one_name():
    catalog = published(release("1.0"), publisher="A") + published(
        release("1.0", digests=Digests(md5=OTHER)), publisher="B"
    )
    for content in ("sw-1.0.img", "something else"):
        assert verdict_of(image("1.0", content=content), catalog).verdict == "proven"


def test_a_doubtful_digest_is_disputed_whether_it_agrees_or_differs():
    catalog = published(release("1.0", digest_doubtful=True))
    assert verdict_of(image("1.0", content="other"), catalog).verdict == "disputed"
    assert verdict_of(image("1.0"), catalog).verdict == "disputed"


def test_a_file_that_the_boot_order_names_counts_as_an_image():
    one = judged(member(plain("next"), boots=("flash:next",))).members[0]
    assert [image.judgement.verdict for image in one.images.values()] == ["unlisted"]


def test_a_file_that_a_part_is_loaded_from_counts_as_its_image():
    one = judged(member(plain("radio"), components=(loads("radio", "flash:radio"),))).members[0]
    assert [image.role for image in one.images.values()] == ["component-image"]


PACKAGES = published(release("1.0", file="base", kind="package"))


def set_of(*files, packages=("pkg/base",)):
    volume = flash(plain("all.set"), *files, sets=(file_set("all.set", *packages),))
    one = judged(member(volumes=(volume,)), catalog=PACKAGES).members[0]
    return next(iter(one.sets.values())).judgement


def package(content="base"):
    return plain("pkg/base", SIZE, digests=Digests(md5=digest(content)))


def test_a_set_is_as_good_as_its_worst_package():
    assert set_of(package()).verdict == "proven"
    assert set_of(package("flipped")).verdict == "altered"
    other = plain("pkg/more", digests=Digests(md5=OTHER))
    assert set_of(package(), other, packages=("pkg/base", "pkg/more")).verdict == "unlisted"


def test_a_set_with_a_package_missing_is_altered():
    judgement = set_of(package(), packages=("pkg/base", "pkg/gone"))
    assert judgement.verdict == "altered"
    assert "pkg/gone" in judgement.why


def bank_verdict(one, *files, hardware="SW10"):
    members = member(*files, banks=(one,))
    found = judged(device(members, hardware=Hardware(model=hardware)), sheet("banks"))
    return found.members[0].banks["a"].judgement.verdict


def test_a_bank_that_lists_places_is_judged_by_those_files():
    assert bank_verdict(bank("a", "1.0", places=("flash:sw-1.0.img",)), image("1.0")) == "proven"
    flipped = image("1.0", content="x")
    assert bank_verdict(bank("a", "1.0", places=("flash:sw-1.0.img",)), flipped) == "altered"
    assert bank_verdict(bank("a", "1.0", places=("flash:sw-1.0.img",))) == "altered"


def test_a_bank_is_judged_by_its_own_digest():
    assert bank_verdict(bank("a", "1.0")) == "proven"
    assert bank_verdict(bank("a", "1.0", digests=Digests(md5=OTHER))) == "altered"
    assert bank_verdict(bank("a", "7.7", digests=Digests(md5=OTHER))) == "unlisted"


def test_a_version_alone_proves_nothing():
    assert bank_verdict(bank("a", "1.0", digests=None)) == "unverified"


globs = st.sampled_from(["*.dump", "log/*", "a*", "*/b", "log/a*", "*.img", "[ab]"])


@given(
    st.lists(st.lists(globs, min_size=1, max_size=2).map(tuple), max_size=4),
    st.sampled_from(["a", "log/a", "b", "x/b", "a.dump", "log/a.dump", "x/y.img", "LOG/A"]),
    st.booleans(),
)
def test_the_first_role_that_fits_a_name_or_a_path_wins(several, path, blind):
    roles = dict(zip(("log", "crash-file", "licence", "key"), several, strict=False))
    told = Naming(sheet(roles=roles, names=())).of(path, case_blind=blind).role
    fits = [role for role, own in roles.items() if glob_pattern(own, blind).match(path)]
    assert told == (fits[0] if fits else "unknown")


STRONG = Digests(md5=digest("sw-1.0.img"), sha512=digest("other", "sha512"))


@pytest.mark.parametrize("name", ["sw-1.0.img", "a-weak-list.img", "zz.img"])
def test_digests_of_one_set_of_bytes_belong_together_over_all_names_and_sources(name):
    """The right MD5 with another SHA-512, also where a second entry lists only the MD5."""
    weak = published(
        release("1.0", file=name, digests=Digests(md5=digest("sw-1.0.img"))), file="weak.md5"
    )
    for catalog in ([*CATALOG, *weak], [*weak, *CATALOG]):
        judgement = verdict_of(image("1.0", digests=STRONG), catalog)
        assert (judgement.verdict, judgement.forged) == ("altered", True)
        assert verdict_of(image("1.0"), catalog).verdict == "proven"


def test_where_the_digest_that_decides_is_disputed_weaker_ones_prove_nothing():
    other = Digests(md5=digest("sw-1.0.img"), sha512=digest("another", "sha512"))
    catalog = [*CATALOG, *published(release("1.0", file="b.img", digests=other), file="b.json")]
    right = Digests(md5=digest("sw-1.0.img"), sha512=digest("sw-1.0.img", "sha512"))
    assert verdict_of(image("1.0", digests=right), catalog).verdict == "disputed"
    assert verdict_of(image("1.0", digests=STRONG), catalog).verdict == "disputed"
    assert verdict_of(image("1.0"), catalog).verdict == "proven"  # only the MD5 is known


def test_a_right_strong_digest_with_a_wrong_weak_one_is_not_those_bytes():
    odd = Digests(md5=digest("x"), sha512=digest("sw-1.0.img", "sha512"))
    judgement = verdict_of(image("1.0", digests=odd))
    assert (judgement.verdict, judgement.forged) == ("altered", False)


def test_a_set_with_a_package_for_other_hardware_is_broken_in_every_package_order():
    catalog = [
        *CATALOG,
        *published(
            release("1.0", file="base", kind="package", hardware=("SW*",)),
            release("1.0", file="radio", kind="package", hardware=("AP*",)),
            file="p.json",
        ),
    ]
    files = [
        plain("a.set", 1),
        *(plain(f"pkg/{name}", digests=Digests(md5=digest(name))) for name in ("base", "radio")),
    ]
    for packages in (("pkg/base", "pkg/radio"), ("pkg/radio", "pkg/base")):
        volume = flash(*files, sets=(file_set("a.set", *packages),))
        what = judged(member(volumes=(volume,), boots=("flash:a.set",)), catalog=catalog)
        tried = walk_device(what).members[0].tried[0]
        assert (tried.result, tried.why) == ("wrong-hardware", "radio is for AP*; this is SW10")
