"""Security advisories: which releases they are about, and what a device that has one is told."""

import copy
import importlib.util
import json
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from msgspec.structs import replace
from referencing import Registry, Resource
from referencing.jsonschema import DRAFT7

from builders import NOW, POLICY, device, image, member, published, release, sheet
from conftest import Ovek
from hostile.samples import SITE
from ovek.demo import write_site
from ovek.engine.advisories import AdvisoryIndex, affected_images, in_range
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.bootwalk import walk_device
from ovek.engine.catalog import pick
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import judge_device, judge_for
from ovek.engine.wanted import Wants
from ovek.engine.where import Sought, on_device
from ovek.files.csaf import read_csaf
from ovek.files.errors import InputError
from ovek.model.advisory import Advisory, AdvisoryProduct, ProductAlias, Remedy, Vulnerability

AT = datetime(2026, 11, 2, tzinfo=UTC)
CATALOG = published(*(release(version) for version in ("1.0", "2.0", "3.0")), publisher="Nobody")
RELEASES = ReleaseIndex(CATALOG).releases


def of(version: str):
    return next(one for one in RELEASES if one.version == version)


def advisory(*products: AdvisoryProduct, id_: str = "A-1", score=7.5, **standings) -> Advisory:
    told = {key.replace("_", " "): ids for key, ids in standings.items()}
    hole = Vulnerability(
        name="CVE-1", score=score, standings=told,
        remedies=(Remedy(category="vendor_fix", details="Install 2.0."),),
    )  # fmt: skip
    return Advisory(
        id=id_, title="A hole", publisher="Nobody", version="1", status="final",
        category="csaf_security_advisory", csaf="2.0", released=AT, products=products,
        vulnerabilities=(hole,),
    )  # fmt: skip


def product(id_: str = "P", name: str = "sw-1.0.img", **more) -> AdvisoryProduct:
    return AdvisoryProduct(id=id_, name=name, **more)


def by_hash(version: str, id_: str = "H", name: str = "something else") -> AdvisoryProduct:
    (digest,) = of(version).digests["md5"]
    return product(id_, name, hashes=(("md5", digest),))


def standing(index: AdvisoryIndex, version: str) -> list[tuple[str, str]]:
    return [(one.standing, one.matched_by) for one in index.of_release(of(version), RELEASES)]


# ---- which releases are meant --------------------------------------------------------------------


def test_a_hash_counts_before_every_name():
    renamed = advisory(
        by_hash("1.0"), product("N", "sw-1.0.img"), affected=("N",), not_affected=("H",)
    )
    assert standing(AdvisoryIndex([renamed]), "1.0") == [("not affected", "hash")]
    assert standing(AdvisoryIndex([renamed]), "2.0") == []


def test_a_renamed_release_is_missed_by_name_and_found_by_its_hash():
    by_name = advisory(product(name="another-name.img"), affected=("P",))
    assert standing(AdvisoryIndex([by_name]), "1.0") == []
    assert standing(AdvisoryIndex([advisory(by_hash("1.0"), affected=("H",))]), "1.0") == [
        ("affected", "hash")
    ]


@pytest.mark.parametrize(
    ("more", "meant"),
    [
        ({}, True),
        ({"publisher": "Nobody"}, True),
        ({"publisher": "NOBODY"}, True),
        ({"publisher": "Others"}, False),
        ({"version": "1.0"}, True),
        ({"version": "1.1"}, False),
        ({"versions": "vers:generic/>=1.0|<2.0"}, True),
        ({"versions": "<1.0"}, False),
        ({"versions": ">=mystery"}, False),
    ],
)
def test_a_name_means_a_release_by_publisher_and_version(more, meant):
    told = standing(AdvisoryIndex([advisory(product(**more), affected=("P",))]), "1.0")
    assert told == ([("affected", "name")] if meant else [])


def test_an_alias_says_what_the_catalog_calls_a_product():
    one = advisory(product(name="Switch OS", publisher="Group", version="1.0"), affected=("P",))
    assert standing(AdvisoryIndex([one]), "1.0") == []
    alias = ProductAlias(name="switch os", files="sw-*")
    assert standing(AdvisoryIndex([one], [alias]), "1.0") == [("affected", "name")]
    assert standing(AdvisoryIndex([one], [alias]), "2.0") == []
    for other in (
        ProductAlias(name="Switch OS", files="web-*"),
        ProductAlias(name="Switch OS", files="sw-*", publisher="Others"),
    ):
        assert standing(AdvisoryIndex([one], [other]), "1.0") == []


def test_an_exact_version_counts_before_a_range_and_that_before_all():
    one = advisory(
        product("all"), product("range", versions=">=1.0"), product("exact", version="1.0"),
        affected=("all",), under_investigation=("range",), fixed=("exact",),
    )  # fmt: skip
    assert standing(AdvisoryIndex([one]), "1.0") == [("fixed", "name")]
    two = advisory(product("a", version="1.0"), product("b", version="1.0"),
                   affected=("a",), not_affected=("b",))  # fmt: skip
    assert standing(AdvisoryIndex([two]), "1.0") == [("affected", "name")], "the worse counts"


@pytest.mark.parametrize(
    ("version", "versions", "inside"),
    [
        ("1.0", "vers:generic/*", True),
        ("1.0", "vers:npm/1.0|2.0", True),
        ("1.5", "vers:npm/1.0|2.0", False),
        ("1.5", "vers:x/>1.0|<2.0", True),
        ("2.0", "vers:x/>1.0|<2.0", False),
        ("2.0", "vers:x/>1.0|<=2.0", True),
        ("1.5", "vers:x/>=1.0|!=1.5|<2.0", False),
        ("3.5", "vers:x/<1.0|>=3.0|<4.0|>=5.0", True),
        ("4.5", "vers:x/<1.0|>=3.0|<4.0|>=5.0", False),
        ("9.0", "vers:x/<1.0|>=3.0|<4.0|>=5.0", True),
        ("0.5", "vers:x/<1.0|>=3.0|<4.0|>=5.0", True),
        ("1.5", ">= 1.0, < 2.0", True),
        ("1.5", "", None),
        ("x", ">=1.0", None),
    ],
)
def test_a_range_of_versions(version, versions, inside):
    assert in_range(version, versions) is inside


@given(st.lists(st.integers(0, 30), min_size=1, max_size=6, unique=True), st.integers(0, 30),
       st.booleans())  # fmt: skip
def test_a_range_is_what_a_plain_reading_of_its_intervals_says(ends, number, starts_below):
    """Bounds that take turns: below the first or from it on, and so on."""
    ends = sorted(ends)
    signs = ["<" if (at % 2 == 0) == starts_below else ">=" for at in range(len(ends))]
    text = "vers:x/" + "|".join(f"{sign}{end}.0" for sign, end in zip(signs, ends, strict=True))
    inside = starts_below
    for end in ends:  # each bound that is reached turns it round
        if number >= end:
            inside = not inside
    assert in_range(f"{number}.0", text) is inside


# ---- what a device is told -----------------------------------------------------------------------

ONE, TWO = "flash:sw-1.0.img", "flash:sw-2.0.img"


def findings(what, *advisories, policy=POLICY, aliases=(), catalog=CATALOG):
    index = ReleaseIndex(catalog, AdvisoryIndex(advisories, aliases))
    judged = judge_device(what, judge_for(sheet(), index))
    told = audit_judged(judged, Wants(policy), Terms(now=NOW)).findings
    return {
        one.rule.removesuffix("-affected"): one for one in told if one.rule.endswith("-affected")
    }


def sw(*images, boots=(ONE,), running="1.0"):
    return device(member(*images, boots=boots), running=running, place=f"flash:sw-{running}.img")


def test_what_runs_boots_and_is_the_fallback_is_told_where_it_is_affected():
    hit = advisory(by_hash("1.0"), affected=("H",))
    both = sw(image("1.0"), image("2.0"))
    told = findings(both, hit)
    assert set(told) == {"running"}
    assert "1.0 is running and the next boot, affected by A-1" in told["running"].seen
    assert "CVE-1, CVSS 7.5" in told["running"].seen and "its digest" in told["running"].seen
    assert set(findings(sw(image("1.0"), image("2.0"), boots=(TWO, ONE)), hit)) == {"running"}
    other = sw(image("1.0"), image("2.0"), boots=(ONE,), running="2.0")
    assert set(findings(other, hit)) == {"next-boot"}
    kept = sw(image("1.0"), image("2.0"), boots=(TWO,), running="2.0")
    assert set(findings(kept, hit)) == {"fallback"}
    assert findings(sw(image("2.0"), boots=(TWO,), running="2.0"), hit) == {}


def test_an_image_that_no_catalog_lists_is_found_by_its_bytes():
    strange = image("5.5", content="unlisted bytes")
    digest = strange.digests.md5
    hit = advisory(product(hashes=(("md5", digest),)), affected=("P",))
    what = sw(strange, boots=("flash:sw-5.5.img",), running="5.5")
    assert set(findings(what, hit)) == {"running"}
    assert findings(sw(image("5.5", content="other bytes"), running="5.5"), hit) == {}


@pytest.mark.parametrize(
    ("score", "more", "severity"),
    [
        (9.0, {}, "critical"), (8.9, {}, "warning"), (4.0, {}, "warning"), (3.9, {}, "note"),
        (9.0, {"advisory_critical": 9.5}, "warning"), (3.9, {"advisory_warning": 3.0}, "warning"),
        (None, {}, "warning"),
    ],
)  # fmt: skip
def test_the_score_says_how_severe_it_is_and_policy_where_the_lines_are(score, more, severity):
    hit = advisory(by_hash("1.0"), score=score, affected=("H",))
    told = findings(sw(image("1.0")), hit, policy=replace(POLICY, **more))
    assert told["running"].severity == severity


@pytest.mark.parametrize("standings", [{"not_affected": ("H",)}, {"fixed": ("H",)}, {}])
def test_what_is_fixed_or_not_affected_is_not_told(standings):
    assert findings(sw(image("1.0")), advisory(by_hash("1.0"), **standings)) == {}


def test_what_is_under_investigation_is_a_note():
    told = findings(sw(image("1.0")), advisory(by_hash("1.0"), under_investigation=("H",)))
    assert told["running"].severity == "note" and "under investigation" in told["running"].seen


def test_an_image_of_which_no_digest_is_known_is_what_its_name_says():
    hit = advisory(by_hash("1.0"), affected=("H",))
    assert set(findings(sw(image("1.0", digests=None)), hit)) == {"running"}
    assert findings(sw(image("1.0", content="other bytes")), hit) == {}, "it is altered"


def test_where_the_files_of_a_version_differ_it_may_be_affected():
    other = published(release("1.0", file="lite-1.0.img", size=7), publisher="Nobody")
    hit = advisory(by_hash("1.0"), affected=("H",))
    gone = device(member(image("2.0"), boots=(TWO,)), running="1.0", place="flash:gone.img")
    told = findings(gone, hit)["running"]
    assert told.severity == "warning" and "may be" not in told.seen
    told = findings(gone, hit, catalog=[*CATALOG, *other])["running"]
    assert told.severity == "note"
    assert "which file of that version it is, is unknown: it may be affected by A-1" in told.seen


def test_without_advisories_nothing_is_told():
    assert findings(sw(image("1.0"))) == {}


def test_where_it_is_fixed_comes_before_what_the_publisher_says():
    fixed = advisory(by_hash("1.0"), by_hash("2.0", "F"), affected=("H",), fixed=("F",))
    assert "Install 2.0, where it is fixed" in findings(sw(image("1.0")), fixed)["running"].words
    alone = advisory(by_hash("1.0"), affected=("H",))
    assert "Its publisher says: Install 2.0;" in findings(sw(image("1.0")), alone)["running"].words


# ---- documents -----------------------------------------------------------------------------------


@pytest.fixture
def site(ovek, tmp_path_factory):
    folder = tmp_path_factory.mktemp("sample") / "site"
    write_site(folder)
    ovek.document = json.loads((folder / "advisories/oxw-2026-003.json").read_text())
    return ovek


def changed(document, path: str, value):
    """A document in which one value is another; None takes it away."""
    made = copy.deepcopy(document)
    *keys, last = path.split(".")
    inside = made
    for key in keys:
        inside = inside[int(key)] if key.isdigit() else inside[key]
    if value is None:
        del inside[last]
    else:
        inside[last] = value
    return made


def test_a_document_is_taken_listed_shown_and_updated(site):
    site.write("new/a.json", json.dumps(site.document))
    looked = site("advisory", "import", "new", "--look").stdout
    assert looked.startswith("1 of 1 document would be taken.")
    assert site("advisory", "list").stdout.startswith("0 advisories")
    assert site("advisory", "import", "new/a.json").stdout.startswith("1 of 1 document taken.")
    told = site.json("advisory", "show", "oxw-2026-003")["advisories"][0]
    assert told["score"] == 6.5 and told["csaf"] == "2.0" and told["releases"] == []
    assert told["unmatched"] == ["Oxwick OX40 lite image 7.3.3", "Oxwick OX40 lite image 7.4.2"]
    again = site.json("advisory", "import", "new")["imported"][0]
    assert (again["outcome"], again["file"]) == ("same", None)
    old = changed(site.document, "document.tracking.current_release_date", "2026-10-01T00:00:00Z")
    site.write("new/a.json", json.dumps(old))
    assert site.json("advisory", "import", "new")["imported"][0]["outcome"] == "older"
    new = changed(site.document, "document.tracking.current_release_date", "2026-12-01T00:00:00Z")
    site.write("new/a.json", json.dumps(new))
    assert site.json("advisory", "import", "new")["imported"][0]["outcome"] == "updated"
    assert len(list((site.folder / "advisories").glob("*.json"))) == 1
    assert "Did you mean 'OXW-2026-003'?" in site.refuses("advisory", "show", "OXW-2026-004")


def test_csaf_2_1_tells_its_scores_elsewhere(site, tmp_path):
    document = changed(site.document, "document.csaf_version", "2.1")
    scores = document["vulnerabilities"][0].pop("scores")
    score = {"cvss_v4": {"baseScore": 8.7}, "cvss_v3": scores[0]["cvss_v3"]}
    document["vulnerabilities"][0]["metrics"] = [{"content": score, "products": ["OX40-LITE-733"]}]
    (tmp_path / "b.json").write_text(json.dumps(document))
    read = read_csaf(tmp_path / "b.json")
    assert read.csaf == "2.1" and read.vulnerabilities[0].score == 8.7


def test_products_of_relationships_and_groups_are_those_of_their_parts(site, tmp_path):
    document = copy.deepcopy(site.document)
    tree, hole = document["product_tree"], document["vulnerabilities"][0]
    name = {"product_id": "ON-RACK", "name": "the lite image on a rack"}
    tree["relationships"] = [
        {"category": "installed_on", "product_reference": "OX40-LITE-733",
         "relates_to_product_reference": "RACK", "full_product_name": name},
    ]  # fmt: skip
    tree["product_groups"] = [{"group_id": "G", "product_ids": ["ON-RACK"]}]
    hole["product_status"] = {"known_affected": ["ON-RACK"]}
    hole["remediations"] = [{"category": "mitigation", "details": "Wait.", "group_ids": ["G"]}]
    (tmp_path / "b.json").write_text(json.dumps(document))
    read = read_csaf(tmp_path / "b.json")
    on_rack = next(one for one in read.products if one.id == "ON-RACK")
    assert on_rack.version == "7.3.3" and on_rack.hashes
    assert read.vulnerabilities[0].remedies[0].products == ("ON-RACK",)


BRANCH = '{"category":"a","name":"b","branches":['
DEEP = '{"product_tree":{"branches":[' + BRANCH * 9000
VALID = "document.tracking.current_release_date"


@pytest.mark.parametrize(
    ("path", "value", "told"),
    [
        ("document.csaf_version", "1.2", "is CSAF 1.2. Use a document of CSAF 2.0 or 2.1"),
        ("document.csaf_version", 2.0, "is no CSAF document: Expected str, got float"),
        ("document.tracking", None, "missing required field tracking"),
        ("document.tracking.id", 7, "Expected str, got int"),
        (VALID, "noon", "Invalid RFC3339 encoded datetime"),
        (VALID, "2026-11-02T08:00:00", "has a date without a time zone"),
        ("product_tree.branches", {}, "Expected array, got object"),
        ("vulnerabilities", "none", "Expected array, got str"),
    ],
)
def test_a_document_that_is_none_is_refused_with_one_message(site, path, value, told):
    site.write("a.json", json.dumps(changed(site.document, path, value)))
    assert told in site.refuses("advisory", "import", "a.json")
    assert not (site.folder / "advisories").exists()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("{}", "missing required field document"),
        ("[]", "Expected object, got array"),
        ("x", "is damaged"),
        ("", "is damaged"),
        (DEEP, "is nested too deeply"),
        ("\ud800", "is damaged"),
    ],
)
def test_what_is_no_document_at_all_is_refused(site, text, told):
    site.write("a.json", text.encode("utf-8", "surrogatepass"))
    assert told in site.refuses("advisory", "import", "a.json")


def test_what_is_too_large_too_deep_or_of_too_many_products_is_refused(site, tmp_path):
    file = tmp_path / "large.json"
    with file.open("wb") as stream:
        stream.truncate(100 * 2**20)
    with pytest.raises(InputError, match="is over 33554432 bytes"):
        read_csaf(file)
    branch = {"category": "product_name", "name": "x"}
    for _ in range(70):
        branch = {"category": "product_family", "name": "y", "branches": [branch]}
    document = changed(site.document, "product_tree.branches", [branch])
    (tmp_path / "deep.json").write_text(json.dumps(document))
    with pytest.raises(InputError, match="is nested too deeply"):
        read_csaf(tmp_path / "deep.json")
    many = [{"product_id": str(at), "name": "x"} for at in range(100_001)]
    (tmp_path / "many.json").write_text(
        json.dumps(changed(site.document, "product_tree.full_product_names", many))
    )
    with pytest.raises(InputError, match="has over 100000 products"):
        read_csaf(tmp_path / "many.json")
    site.write("many.json", json.dumps(
        changed(site.document, "product_tree.full_product_names", many[:50_000])
    ))  # fmt: skip
    assert len(read_csaf(site.folder / "many.json").products) == 50_002


def test_a_hash_of_an_algorithm_that_is_unknown_matches_nothing(site, tmp_path):
    document = copy.deepcopy(site.document)
    versions = document["product_tree"]["branches"][0]["branches"][0]["branches"]
    hashes = versions[0]["product"]["product_identification_helper"]["hashes"][0]["file_hashes"]
    hashes[0]["algorithm"] = "blake3"
    hashes.append({"algorithm": "sha512", "value": "short"})
    (tmp_path / "b.json").write_text(json.dumps(document))
    assert all(one.hashes == () for one in read_csaf(tmp_path / "b.json").products)


def test_of_several_documents_none_is_taken_where_one_is_wrong(site):
    site.write("new/a.json", json.dumps(site.document))
    site.write("new/b.json", "{}")
    site.write("new/c.json", "[]")
    told = site("advisory", "import", "new", exits=2).stderr.splitlines()
    assert len(told) == 2 and "b.json" in told[0] and "c.json" in told[1]
    assert not (site.folder / "advisories").exists()
    assert "has no document" in site.refuses("advisory", "import", "snapshots")
    assert "cannot be read" in site.refuses("advisory", "import", "nowhere.json")


def test_what_documents_came_to_is_kept_only_while_they_are_as_they_were(site):
    site.write("advisories/a.json", json.dumps(site.document))
    assert site("advisory", "list").stdout.startswith("1 advisory")
    kept = site.folder / "advisories/.kept.db"
    for wrong in (b"", b"x" * 5000, kept.read_bytes()[:3000]):
        kept.write_bytes(wrong)
        assert site("advisory", "list").stdout.startswith("1 advisory")
    site.write("advisories/a.json", json.dumps(changed(site.document, "document.title", "Changed")))
    assert "Changed" in site("advisory", "list").stdout
    (site.folder / "advisories/a.json").unlink()
    assert site("advisory", "list").stdout.startswith("0 advisories")


def test_an_advisory_that_comes_later_is_in_the_next_audit(site):
    before = site.json("audit", exits=0)["devices"][0]["findings"]
    document = json.dumps(site.document).replace("OX40 lite image", "sw-1.0.img")
    text = document.replace('"7.3.3"', '"1.0"').replace('"Oxwick"', '"Nobody"')
    site.write("advisories/a.json", text)
    after = site.json("audit", exits=0)["devices"][0]["findings"]
    assert [one["rule"] for one in after if one not in before] == ["running-affected"]
    site.write("waivers.toml", 'format = "ovek.waivers/1"\n[[waiver]]\nrule = "running-affected"\n'
               'device = "sw"\nby = "Ada"\nwhy = "planned"\nuntil = 2999-01-01\n')  # fmt: skip
    told = site.json("audit", exits=0)["devices"][0]["findings"]
    (waived,) = [one["waived"] for one in told if one["rule"] == "running-affected"]
    assert waived is not None


def test_names_of_products_that_are_wrong_are_told(site):
    site.write("advisories/a.json", json.dumps(site.document))
    site.write("advisories/products.toml", '[[product]]\nname = "x"\nfile = "y"\n')
    assert "products.toml" in site.refuses("advisory", "list")


def test_the_sample_s_advisory_is_about_two_devices_and_may_be_about_a_third(tmp_path):
    write_site(tmp_path / "site")
    sample, rules = Ovek(tmp_path / "site"), ("running-affected", "fallback-affected")
    typed = [word for rule in rules for word in ("--only", rule)]
    told = sample.json("audit", *typed, exits=3)["devices"]
    assert {one["device"]: one["findings"][0]["severity"] for one in told} == {
        "gannet-bridge": "warning",
        "heron-bridge": "warning",
        "tern-bridge": "note",  # the image that it runs is gone
    }


# ---- the standard's own schema -------------------------------------------------------------------


def schema_of(version: str):
    """What checks documents by the standard's own schema, where a package ships it."""
    package = importlib.util.find_spec("csaf")
    if package is None or not package.submodule_search_locations:
        pytest.skip("no package with the standard's schema is installed")
    folder = Path(package.submodule_search_locations[0]) / "csaf" / version / "schema"
    registry = Registry()
    for file in folder.rglob("*.json"):
        schema = json.loads(file.read_text())
        name = schema.get("$id", schema.get("id", file.name)).partition("?")[0]
        registry = registry.with_resource(name, Resource.from_contents(schema, DRAFT7))
    whole = json.loads((folder / "csaf.json").read_text())
    return Draft202012Validator(whole, registry=registry)


def sample_document() -> dict:
    return json.loads((SITE / "advisories/oxw-2026-003.json").read_text())


def as_2_1(document: dict) -> dict:
    """The same document as the later version of the standard has it."""
    new = copy.deepcopy(document)
    new["$schema"] = "https://docs.oasis-open.org/csaf/csaf/v2.1/schema/csaf.json"
    new["document"]["csaf_version"] = "2.1"
    new["document"]["distribution"] = {"tlp": {"label": "CLEAR"}}
    for hole in new["vulnerabilities"]:
        scores = hole.pop("scores")
        hole["metrics"] = [{"products": one.pop("products"), "content": one} for one in scores]
    return new


def test_the_sample_is_valid_by_the_standard_s_own_schema():
    document = sample_document()
    assert list(schema_of("v20").iter_errors(document)) == []
    del document["document"]["title"]
    assert list(schema_of("v20").iter_errors(document)), "a document that is not is found"


def test_a_document_of_the_later_version_is_valid_and_read_as_the_same_advisory(tmp_path):
    old, new = sample_document(), as_2_1(sample_document())
    assert list(schema_of("v21").iter_errors(new)) == []
    read = []
    for document in (old, new):
        (tmp_path / "a.json").write_text(json.dumps(document))
        read.append(read_csaf(tmp_path / "a.json"))
    assert replace(read[1], csaf="2.0") == read[0]


# ---- who has it, since when, and what is wanted --------------------------------------------------


@pytest.fixture
def sample(tmp_path):
    write_site(tmp_path / "site")
    return Ovek(tmp_path / "site")


def test_who_runs_boots_and_holds_an_affected_image_is_found_by_the_advisory(sample):
    found = sample.json("where", "--advisory", "oxw-2026-003", exits=3)
    assert found["sought"] == "OXW-2026-003" and found["by_advisory"] is True
    rows = [(one["device"], one["running"], one["boots"], one["verdict"]) for one in
            found["copies"]]  # fmt: skip
    assert rows == [
        ("gannet-bridge", False, False, "proven"),  # its fallback
        ("heron-bridge", True, True, "proven"),
        ("tern-bridge", True, False, None),  # in memory only
    ]
    told = sample("where", "--advisory", "OXW-2026-003", exits=3).stdout
    assert told.startswith(
        "3 devices hold images that OXW-2026-003 affects; 2 run one, 1 boots one next.\n"
    )
    alone = sample("where", "--advisory", "OXW-2026-003", "heron-bridge").stdout
    assert alone.startswith("1 device holds images that OXW-2026-003 affects; 1 runs one")
    none = sample("where", "--advisory", "OXW-2026-003", "skarn-shed", exits=1).stdout
    assert none == "No device or shelf has an image that OXW-2026-003 affects.\n"


def test_an_advisory_that_is_not_there_and_nothing_at_all_are_refused(sample):
    assert "Did you mean 'OXW-2026-003'?" in sample.refuses("where", "--advisory", "OXW-2026-03")
    assert "or --advisory ID" in sample("where", exits=2).stderr
    assert "or --advisory ID" in sample("history", "image", exits=2).stderr
    both = sample("history", "image", "a.img", "--advisory", "OXW-2026-003", exits=2)
    assert "or --advisory ID" in both.stderr


def test_an_affected_image_is_found_by_its_bytes_under_any_name_and_not_by_its_name_alone():
    hit = advisory(by_hash("1.0"), affected=("H",))
    index = AdvisoryIndex([hit])
    sought = Sought("A-1", affected_images(hit, index, RELEASES))
    for what, places in (
        (image("1.0", path="other.img"), ["flash:other.img"]),
        (image("1.0"), [ONE]),
        (image("1.0", content="damaged"), []),
        (image("1.0", digests=None), [ONE]),
        (image("2.0"), []),
    ):
        judged = judge_device(
            sw(what, running="2.0"), judge_for(sheet(), ReleaseIndex(CATALOG, index))
        )
        found = on_device(judged, walk_device(judged), sought)
        assert [one.place for one in found] == places, what


def test_a_version_that_runs_counts_on_the_hardware_of_its_release_only():
    ours = published(release("1.0", hardware=("SW*",)), publisher="Nobody")
    index = AdvisoryIndex([hit := advisory(product(), affected=("P",))])
    affected = affected_images(hit, index, ReleaseIndex(ours).releases)
    assert affected.runs("1.0", "SW10") and affected.runs("1.0", None)
    assert not affected.runs("1.0", "XX") and not affected.runs("1.1", "SW10")
    investigated = advisory(product(), under_investigation=("P",))
    assert not affected_images(
        investigated, AdvisoryIndex([investigated]), ReleaseIndex(ours).releases
    ).files


def test_the_history_says_since_when_an_affected_image_was_held_and_ran(sample):
    sample("history", "add")
    told = sample("history", "image", "--advisory", "OXW-2026-003").stdout
    assert told.startswith("2 devices had an image that OXW-2026-003 affects, 2 of them still")
    found = sample.json("history", "image", "--advisory", "oxw-2026-003")
    assert {one["device"] for one in found["ran"]} == {"heron-bridge", "tern-bridge"}
    assert {one["device"] for one in found["copies"]} == {"gannet-bridge", "heron-bridge"}
    assert all(one["first"] for one in (*found["ran"], *found["copies"]))
    (sample.folder / "advisories/oxw-2026-003.json").write_text(
        json.dumps(changed(sample_document(), "vulnerabilities.0.product_status", {}))
    )
    none = sample("history", "image", "--advisory", "OXW-2026-003", exits=1).stdout
    assert none.startswith("No device ever had an image that OXW-2026-003 affects")


def test_the_report_and_the_metrics_count_who_is_affected_by_what(sample):
    told = sample("report", "--format", "markdown", exits=None).stdout
    assert "| OXW-2026-003 | 6.5 | 2 | 1 | 0 | 1 | A crafted announcement" in told
    sample("report", "-o", "page.html", exits=None)
    page = (sample.folder / "page.html").read_text()
    assert 'id="advisories"' in page and "OXW-2026-003" in page
    lines = sample("audit", "--format", "openmetrics", exits=None).stdout.splitlines()
    uses = {(line.partition('use="')[2].partition('"')[0], line[-1]) for line in lines
            if line.startswith("ovek_advisory_devices{")}  # fmt: skip
    assert uses == {("running", "1"), ("next boot", "1"), ("fallback", "1")}
    (sample.folder / "advisories/oxw-2026-003.json").unlink()
    told = sample("report", "--format", "markdown", exits=None).stdout
    assert "Security advisories" not in told
    sample("report", "-o", "other.html", exits=None)
    assert 'id="advisories"' not in (sample.folder / "other.html").read_text()


def target(*advisories: Advisory, prefer: bool) -> str | None:
    """The target of a device that may run 1.0 to 3.0, all of them recommended."""
    ours = [
        release(version, status="recommended", hardware=("SW*",))
        for version in ("1.0", "2.0", "3.0")
    ]
    index = ReleaseIndex(published(*ours, publisher="Nobody"), AdvisoryIndex(advisories))
    judged = judge_device(sw(image("1.0")), judge_for(sheet(), index))
    policy = replace(POLICY, target="recommended", prefer_unaffected=prefer)
    return Wants(policy).of(judged).target


def test_a_release_that_is_not_affected_is_the_target_only_if_policy_prefers_it():
    newest = advisory(by_hash("3.0"), affected=("H",))
    assert target(newest, prefer=False) == "3.0"
    assert target(newest, prefer=True) == "2.0"
    assert target(prefer=True) == "3.0"
    fixed = advisory(by_hash("3.0"), fixed=("H",))
    assert target(fixed, prefer=True) == "3.0"
    every = [advisory(by_hash(v), id_=f"A-{v}", affected=("H",)) for v in ("1.0", "2.0", "3.0")]
    assert target(*every, prefer=True) == "3.0", "where all are affected the newest is it"


def test_pick_says_why_the_newest_is_not_the_one():
    ours = [release(version, status="recommended", hardware=("SW*",)) for version in ("2.0", "3.0")]
    hit = advisory(by_hash("3.0"), affected=("H",))
    index = ReleaseIndex(published(*ours, publisher="Nobody"), AdvisoryIndex([hit]))
    judged = judge_device(sw(image("2.0"), running="2.0"), judge_for(sheet(), index))
    policy = replace(POLICY, target="recommended", prefer_unaffected=True)
    found = pick(judged, Wants(policy).of(judged))
    assert found.chosen is not None and found.chosen.version == "2.0"
    (other,) = found.others
    assert other.against == (
        "an advisory affects it, and policy prefers sw-2.0.img, which none affects",
    )
