"""What was released: importers, and answers out of the catalog."""

import json
import subprocess
from datetime import date

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import CATALOG, device, digest, image, judged, member, published, release, sheet
from ovek.engine import catalog
from ovek.engine.bootwalk import walk_device
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import ProofRule, judge_device, judge_for
from ovek.engine.wanted import Wants
from ovek.files.catalog import sorted_out
from ovek.files.errors import InputError
from ovek.files.importers import digestlist, metalink, pasted, sidefile, table
from ovek.files.importers.known import importer_of
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import Digests
from ovek.model.naming import Naming
from ovek.model.policy import Policy
from ovek.model.snapshot import Hardware

MD5, SHA1, SHA512 = digest("x"), digest("x", "sha1"), digest("x", "sha512")
NAMES = ["plain.img", "with blank (1).img", "back\\slash", "line\nfeed", "ünï.img"]


def releases_in(reader, file, text, **more):
    file.write_bytes(text if isinstance(text, bytes) else text.encode())
    found, _ = sorted_out(reader(file, **more))
    return [(one.release, one.origin.line) for one in found]


def refused(reader, file, text, **more):
    with pytest.raises(InputError) as error:
        releases_in(reader, file, text, **more)
    return str(error.value)


@pytest.mark.parametrize(
    "command",
    [
        ["md5sum", "--tag"],
        ["sha1sum", "--tag"],
        ["sha512sum", "--tag"],
        ["openssl", "dgst", "-r", "-md5"],
        ["openssl", "dgst", "-r", "-sha256"],
        ["openssl", "dgst", "-sha512"],
    ],
)
def test_digest_lists_are_read_as_real_programs_write_them(tmp_path, command):
    names = NAMES if command[0] != "openssl" else ["plain.img", "with blank (1).img"]
    for name in names:
        (tmp_path / name).write_text(name)
    done = subprocess.run([*command, *names], cwd=tmp_path, capture_output=True, check=True)
    algorithm = command[-1].lstrip("-") if command[0] == "openssl" else command[0][:-3]
    listing = tmp_path / "list.txt"
    listing.write_bytes(done.stdout)
    assert importer_of(listing).kind == "digest list"
    entries, bad = sorted_out(digestlist.read(listing))
    found = {one.release.file: one.release.digests for one in entries}
    assert not bad
    assert found == {name: Digests(**{algorithm: digest(name, algorithm)}) for name in names}


def listed(file):
    return sorted_out(digestlist.read(file))[0]


@pytest.mark.parametrize("command", [
    ["b2sum", "--tag"], ["sha384sum"], ["sha384sum", "--tag"], ["openssl", "dgst", "-sha3-512"],
    ["openssl", "dgst", "-blake2b512"], ["sha224sum", "--tag"],
])  # fmt: skip
def test_digests_that_no_release_is_held_against_are_refused_by_name(tmp_path, command):
    (tmp_path / "a.img").write_text("x")
    done = subprocess.run([*command, "a.img"], cwd=tmp_path, capture_output=True, check=True)
    file = tmp_path / "list.txt"
    file.write_bytes(done.stdout)
    with pytest.raises(InputError, match="which Ovek does not use"):
        listed(file)


def test_a_bare_list_that_hints_at_another_algorithm_asks_which_it_is(tmp_path, ovek):
    line = f"{SHA512}  a.img\n"
    for name, text in (("x.b2sum.txt", line), ("list.txt", f"# made with b2sum -a\n{line}")):
        file = ovek.write(name, text)
        with pytest.raises(InputError, match="suggests another algorithm"):
            listed(file)
        assert "add --algorithm sha512" in ovek.refuses("catalog", "import", name, "--look")
        ovek("catalog", "import", name, "--look", "--algorithm", "sha512")
    assert listed(ovek.write("list.txt", f"# of our server\n{line}"))[0].release.file == "a.img"


def test_a_list_whose_lines_end_with_a_nul_is_read(tmp_path):
    (tmp_path / "a\nb.img").write_text("x")
    done = subprocess.run(
        ["sha256sum", "-z", "a\nb.img"], cwd=tmp_path, capture_output=True, check=True
    )
    file = tmp_path / "list.txt"
    file.write_bytes(done.stdout)
    assert [one.release.file for one in listed(file)] == ["a\nb.img"]


def test_one_bad_line_costs_that_line_and_is_told(ovek):
    lines = [f"{MD5}  a.img", f"{MD5[:-1]}  short.img", f"{MD5}  -", f"{digest('y')}  b.img"]
    ovek.write("catalog/more.md5", "\n".join(lines))
    done = ovek("catalog", "list")
    assert {"a.img", "b.img"} <= set(done.stdout.split())
    assert "more.md5, line 2: the digest has 31 characters" in done.stderr
    assert "more.md5, line 3: is of standard input (-)" in done.stderr
    assert done.stderr.count("That line is ignored.") == 2
    ovek.write("catalog/more.md5", lines[1])
    assert "31 characters" in ovek.refuses("catalog", "list")


def test_rows_that_name_one_file_for_several_hardware_are_one_release_with_the_needs_of_each():
    small, large = {"hardware": ("SW1*",)}, {"hardware": ("SW2*",), "needs": {"memory": 2000}}
    found = index(release("2.0", **small), release("2.0", **large))
    (one,) = found.releases
    assert one.hardware == ("SW1*", "SW2*")
    assert (one.needs_of("SW10").memory, one.needs_of("SW20").memory) == (None, 2000)


def own(*files):
    return [Published(release(one, file=f"copy-{one}.img"), Origin("ours.json", 1), None, "own")
            for one in files]  # fmt: skip


def test_a_copy_of_ours_is_matched_and_proves_only_where_policy_says_so():
    file = image("9.0", content="copy-9.0.img")
    what, catalog_ = device(member(file, boots=("flash:sw-9.0.img",))), [*CATALOG, *own("9.0")]
    found = judged(what, catalog=catalog_)
    (one,) = found.members[0].images.values()
    assert one.judgement.verdict == "matched"
    assert "which no publisher lists" in one.judgement.why
    assert walk_device(found).next_boot == "unproven"
    judge = judge_for(sheet(), ReleaseIndex(catalog_), ProofRule(accepts_own=True))
    assert walk_device(judge_device(what, judge)).next_boot == "proven"


def test_a_list_of_our_own_copies_disputes_no_publisher():
    wrong = Release(file="sw-1.0.img", digests=Digests(md5=digest("rotten")))
    ours = Published(wrong, Origin("ours.json", 1), None, "own")
    good, bad = image("1.0"), image("2.0", path="b", content="rotten")
    found = judged(member(good, bad), catalog=[*CATALOG, ours]).members[0].images
    assert sorted(each.judgement.verdict for each in found.values()) == ["matched", "proven"]
    named = judged(member(image("1.0", content="rotten")), catalog=[*CATALOG, ours])
    (only,) = named.members[0].images.values()
    assert only.judgement.verdict == "altered", "a publisher says what this name is"


def test_own_records_are_imported_as_such(ovek):
    ovek.write("ours.md5", f"{digest('copy')}  sw-7.0.img\n")
    ovek("catalog", "import", "ours.md5", "--own")
    assert json.loads((ovek.folder / "catalog/ours.json").read_text())["trust"] == "own"
    place = "flash:sw-7.0.img"
    ovek.snapshot(device(member(image("7.0", content="copy"), boots=(place,)), place=place))
    assert ovek.json("audit")["devices"][0]["images"][0]["verdict"] == "matched"
    ovek.write("policy.toml", 'accepts = ["publisher", "own"]\n')
    audit = ovek.json("audit")["devices"][0]
    assert (audit["images"][0]["verdict"], audit["next_boot"]) == ("proven", "proven")


def test_a_tag_that_is_not_its_digests_is_told(tmp_path):
    told = refused(listed, tmp_path / "a.txt", f"SHA1 (a.img) = {MD5}")
    assert "line 1" in told
    assert "SHA1" in told


@pytest.mark.parametrize("text", [SHA512, f"{SHA512.upper()}\r\n", ":".join(SHA512), f" {SHA512} "])
def test_a_bare_digest_in_a_side_file_is_that_of_the_image_it_is_named_after(tmp_path, text):
    found = releases_in(sidefile.read, tmp_path / "sw-1.0.img.sha512", text)
    assert found[0][0].file == "sw-1.0.img"
    assert found[0][0].digests.sha512 == SHA512
    assert importer_of(tmp_path / "sw-1.0.img.sha512").kind == "side file"


def test_a_side_file_whose_digest_is_of_another_length_is_told(tmp_path):
    assert "32" in refused(sidefile.read, tmp_path / "a.img.sha512", MD5)


METALINK = (
    """<?xml version="1.0" encoding="UTF-8"?>
<metalink xmlns="urn:ietf:params:xml:ns:metalink">
 <file name="dir/sw-1.0.img">
  <publisher name="Nobody" url="https://192.0.2.1/"/>
  <size>104857600</size>
  <version>1.0</version>
  <hash type="md5">MD5</hash>
  <hash type="sha-512">SHA512</hash>
  <hash type="whirlpool">ffff</hash>
 </file>
 <file name="b.img"><hash type="sha-1">SHA1</hash></file>
</metalink>
""".replace("MD5", MD5)
    .replace("SHA512", SHA512)
    .replace("SHA1", SHA1)
)


def test_metalink_files_are_read_with_sizes_and_several_hashes(tmp_path):
    found = releases_in(metalink.read, tmp_path / "a.meta4", METALINK)
    assert [line for _, line in found] == [3, 11]
    one = found[0][0]
    assert (one.file, one.size, one.version) == ("sw-1.0.img", 104857600, "1.0")
    assert one.digests == Digests(md5=MD5, sha512=SHA512)
    assert found[1][0].digests == Digests(sha1=SHA1)


BOMB = '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bbbb">]><metalink>&b;</metalink>'
BAD_METALINKS = {
    "": "invalid XML",
    "<metalink": "invalid XML",
    METALINK[:300]: "invalid XML",
    METALINK.replace("urn:ietf:params:xml:ns:metalink", "urn:other"): "'urn:other'",
    METALINK.replace(SHA512, "abc"): "3 characters",
    METALINK.replace("104857600", "-1"): "'-1'",
    METALINK.replace("dir/sw-1.0.img", "../../etc/passwd"): "'../../etc/passwd'",
    BOMB: "contains what no Metalink needs",
    '<metalink xmlns="urn:ietf:params:xml:ns:metalink"/>': "lists no file",
}


@pytest.mark.parametrize("text", BAD_METALINKS)
def test_a_bad_metalink_is_told(tmp_path, text):
    told = refused(metalink.read, tmp_path / "a.meta4", text)
    assert BAD_METALINKS[text] in told


CSV = f"""\ufeffImage name;Size (bytes);MD5 checksum;Version;Remark
sw-1.0.img;104 857 600;{":".join(MD5[at : at + 2] for at in range(0, 32, 2))};1.0;old
sw-2.0.img;104857601;;2.0;
"""


def test_a_table_is_read_by_the_meaning_of_its_columns(tmp_path):
    found = releases_in(table.read, tmp_path / "a.csv", CSV.replace("\n", "\r\n"))
    assert found[0][0].digests.md5 == MD5
    assert [one.size for one, _ in found] == [104857600, 104857601]
    assert [line for _, line in found] == [2, 3]
    assert table.header_of(tmp_path / "a.csv").left_out == ("Remark",)


def test_a_column_may_be_said(tmp_path):
    text = f"Thing,Sum\nsw-1.0.img,{MD5}\n"
    assert "--column file=TITLE" in refused(table.read, tmp_path / "a.csv", text)
    found = releases_in(table.read, tmp_path / "a.csv", text, said={"file": "Thing", "md5": "Sum"})
    assert (found[0][0].file, found[0][0].digests.md5) == ("sw-1.0.img", MD5)
    told = refused(table.read, tmp_path / "a.csv", text, said={"file": "Nothing"})
    assert "Thing, Sum" in told


BAD_TABLES = {
    "file,md5\na.img,abc": "line 2, key md5",
    "file,size\na.img,big": "'big'",
    "file,size\nfile,size\na,1": "",
    "file,size\na,1\nfile,size\nb,2": "repeats the header",
    "file,size\na": "1 cells",
    "file,size": "no row",
    "file\n../a": "'../a'",
    'file\n"a': "CSV",
}


@pytest.mark.parametrize("text", BAD_TABLES)
def test_a_bad_table_is_told(tmp_path, text):
    assert BAD_TABLES[text] in refused(table.read, tmp_path / "a.csv", text)


@pytest.mark.parametrize("mark", "U^")
def test_a_digest_that_is_not_of_the_bytes_is_refused(tmp_path, mark):
    file = tmp_path / "a.sha1"
    file.write_text(f"{SHA1} {mark}a.img\n{SHA1}  {mark}b.img\n{SHA1} *c.img\n")
    found, bad = sorted_out(digestlist.read(file))
    assert [one.release.file for one in found] == [f"{mark}b.img", "c.img"]
    assert "not of the file's own bytes" in str(bad[0])


def test_a_bad_row_of_a_table_costs_that_row(tmp_path):
    file = tmp_path / "a.csv"
    file.write_text("file,size\na.img,1\nb.img,big\nc.img,3\n")
    found, bad = sorted_out(table.read(file))
    assert [one.release.file for one in found] == ["a.img", "c.img"]
    assert "line 3, key size" in str(bad[0])


def test_a_table_that_a_spreadsheet_saved_as_utf16_is_read(tmp_path):
    file = tmp_path / "a.csv"
    file.write_bytes(CSV.encode("utf-16"))
    plain = tmp_path / "b.csv"
    plain.write_text(CSV)
    same = [[one.release for one in sorted_out(table.read(each))[0]] for each in (file, plain)]
    assert same[0] == same[1] != []
    assert "UTF-16" in refused(table.read, tmp_path / "c.csv", b"\xff\xfe" + b"a\x00\xd8")


PAGE = f"""\
Downloads for the SW family
sw-2.0.img        Released today
  Version: 2.0    Size: 104,857,600
  MD5 {MD5}
  SHA512 {SHA512}
sw-1.0.img
  97.5 MB
  SHA1: {SHA1.upper()}
"""


def test_pasted_text_gives_what_belongs_together(tmp_path):
    found = releases_in(pasted.read, tmp_path / "page.txt", PAGE)
    assert [(one.file, line) for one, line in found] == [("sw-2.0.img", 2), ("sw-1.0.img", 6)]
    assert (found[0][0].size, found[0][0].version) == (104857600, "2.0")
    assert found[0][0].digests == Digests(md5=MD5, sha512=SHA512)
    assert found[1][0].digests == Digests(sha1=SHA1)


@pytest.mark.parametrize("text", [
    f"sw.img\nSHA512: {SHA512[:64]}\n        {SHA512[64:]}\n",
    f"sw.img\nSHA-512 checksum: {' '.join(SHA512[at : at + 4] for at in range(0, 128, 4))}\n",
    f"sw.img SHA512 = {SHA512.upper()} added in May",
])  # fmt: skip
def test_a_labelled_digest_is_read_wrapped_and_in_groups(tmp_path, text):
    ((one, _),) = releases_in(pasted.read, tmp_path / "a.txt", text)
    assert (one.file, one.digests.sha512) == ("sw.img", SHA512)


@pytest.mark.parametrize(("digest_", "told"), [
    (f"SHA512: {SHA512[:100]}", "the SHA512 has 100 hex digits"),
    (f"SHA-384: {SHA512[:96]}", "the digest is SHA-384"), (f"BLAKE2b: {SHA512}", "is BLAKE2b"),
    (f"SHA3-256: {SHA512[:64]}", "is SHA3-256"), (f"SHA256: {MD5}", "the SHA256 has 32"),
])  # fmt: skip
def test_a_digest_that_does_not_fit_its_label_is_refused_by_name(tmp_path, digest_, told):
    file = tmp_path / "a.txt"
    file.write_text(f"a.img\nMD5: {MD5}\nb.img size 12345 bytes\n{digest_}\n")
    found, bad = sorted_out(pasted.read(file))
    assert [one.release.file for one in found] == ["a.img", "b.img"]
    assert dict(found[1].release.digests) == {}
    assert told in str(bad[0])
    assert "line 4" in str(bad[0])


@pytest.mark.parametrize(
    "path", ["https://example.net/dl/sw-full-1.0.img", "/srv/x/sw-full-1.0.img"]
)
def test_a_path_or_url_keeps_its_whole_last_name(tmp_path, path):
    ((one, _),) = releases_in(pasted.read, tmp_path / "a.txt", f"{path}\nMD5: {MD5}\n")
    assert one.file == "sw-full-1.0.img"


def test_a_metalink_with_only_other_hashes_names_them(tmp_path):
    file = tmp_path / "a.meta4"
    file.write_text(
        '<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="a.img">'
        f'<hash type="sha-384">{"0" * 96}</hash></file><file name="b.img"><hash type="md5">'
        f"{MD5}</hash></file></metalink>"
    )
    found, bad = sorted_out(metalink.read(file))
    assert [one.release.file for one in found] == ["b.img"]
    assert "a.img has only hashes that Ovek does not use: sha-384" in str(bad[0])


def test_a_rounded_size_of_pasted_text_is_not_taken(tmp_path):
    assert releases_in(pasted.read, tmp_path / "a.txt", PAGE)[1][0].size is None


def test_pasted_text_whose_facts_stand_before_the_names(tmp_path):
    text = f"{MD5} sw-1.0.img (latest)\n{digest('y')} sw-2.0.img\n"
    found = releases_in(pasted.read, tmp_path / "a.txt", text)
    assert [one.digests.md5 for one, _ in found] == [MD5, digest("y")]


def test_pasted_text_without_a_release_is_told(tmp_path):
    assert "no file" in refused(pasted.read, tmp_path / "a.txt", "Welcome to our page")
    two = f"a.img\n{MD5}\n{digest('y')}\n"
    assert "two digests" in refused(pasted.read, tmp_path / "a.txt", two)


@pytest.mark.parametrize("reader", [digestlist, sidefile, metalink, table, pasted])
@given(text=st.text())
def test_whatever_a_file_holds_it_is_read_or_refused(tmp_path_factory, reader, text):
    file = tmp_path_factory.getbasetemp() / "any.md5"
    file.write_text(text, encoding="utf-8", errors="surrogatepass", newline="")
    try:
        sorted_out(reader.read(file))
    except InputError as error:
        assert str(file) in str(error)


def test_an_import_shows_what_it_understood_and_writes_a_catalog(ovek):
    ovek.write("new.md5", f"{MD5} *sw-9.0.img\n")
    shown = ovek("catalog", "import", "new.md5", "--publisher", "Nobody").stdout
    assert "Read as digest list: 1 release." in shown
    written = json.loads((ovek.folder / "catalog/new.json").read_text())
    assert written["publisher"] == "Nobody"
    told = written["releases"][0]["told_by"]
    assert (told["file"], told["line"]) == ("new.md5", 1)
    assert "told by" in ovek("catalog", "show", "sw-9.0.img").stdout
    assert ovek.json("catalog", "find", MD5[:8])["releases"][0]["file"] == "sw-9.0.img"
    assert "already" in ovek.refuses("catalog", "import", "new.md5")


def test_what_had_to_be_guessed_is_taken_only_with_a_yes(ovek):
    ovek.write("page.txt", PAGE)
    done = ovek("catalog", "import", "page.txt", exits=2)
    assert "Read as pasted text: 2 releases." in done.stdout
    assert "--yes" in done.stderr
    assert not (ovek.folder / "catalog/page.json").exists()
    ovek("catalog", "import", "page.txt", "--look")
    assert not (ovek.folder / "catalog/page.json").exists()
    ovek("catalog", "import", "page.txt", "--yes")
    assert (ovek.folder / "catalog/page.json").exists()


def test_an_import_with_one_bad_file_writes_nothing(ovek):
    ovek.write("good.md5", f"{MD5}  a.img\n")
    ovek.write("bad.md5", "nonsense\n")
    ovek("catalog", "import", "good.md5", "bad.md5", exits=2)
    assert not (ovek.folder / "catalog/good.json").exists()


def test_wrong_words_of_an_import_are_told(ovek):
    ovek.write("a.csv", "x,y\na.img,1\n")
    assert "colour=x" in ovek("catalog", "import", "a.csv", "--column", "colour=x", exits=2).stderr
    assert (
        "not a valid catalog name"
        in ovek("catalog", "import", "a.csv", "--name", "../x", exits=2).stderr
    )


def index(*all_releases):
    return ReleaseIndex(published(*all_releases))


def test_releases_are_found_by_name_version_hardware_and_digest():
    releases = index(release("1.0", hardware=("SW*",)), release("2.0", hardware=("RT*",)))

    def found(text):
        return [one.version for one in catalog.find(releases, text)]

    assert found("sw-1") == ["1.0"]
    assert found("*.IMG") == ["1.0", "2.0"]
    assert found("2.0") == ["2.0"]
    assert found("RT7") == ["2.0"]
    assert found(digest("sw-2.0.img")[:6].upper()) == ["2.0"]
    assert found("nothing") == []


def kinds(*all_releases, namings=()):
    today = date(2026, 3, 2)
    return [one.kind for one in catalog.mistakes(index(*all_releases), today, namings)]


def test_a_sound_catalog_has_no_mistake():
    assert kinds(release("1.0"), release("2.0", from_=("1.0",))) == []


def test_one_digest_under_two_names_is_a_mistake():
    both = Digests(md5=MD5)
    assert kinds(release("1.0", digests=both), release("2.0", digests=both)) == ["shared-digest"]


def test_one_name_with_two_digests_is_a_mistake():
    two = [release("1.0", digests=Digests(md5=text)) for text in (MD5, digest("y"))]
    assert kinds(*two) == ["two-digests"]


def checked(*sources):
    entries = [each for at, one in enumerate(sources) for each in published(one, file=f"{at}.json")]
    found = catalog.mistakes(ReleaseIndex(entries), date(2026, 3, 2), (), entries)
    return [(each.kind, each.seen) for each in found]


def test_facts_that_two_sources_tell_differently_are_mistakes():
    one, other = release("2.0", status="recommended"), release("2.0", status="old")
    assert checked(one, other) == [
        (
            "facts-differ",
            "the sources disagree on its status: recommended (0.json:1) and old (1.json:1)",
        )
    ]
    assert checked(one, release("2.0")) == [], "a source that does not say contradicts nothing"
    needs = {"memory": 5}
    assert checked(release("2.0", needs=needs), release("2.0", needs={"memory": 6})) == [
        (
            "facts-differ",
            "the sources disagree on its needs: memory 5 (0.json:1) and memory 6 (1.json:1)",
        )
    ]
    rows = [release("2.0", hardware=("A*",), needs=needs), release("2.0", hardware=("B*",))]
    assert checked(*rows) == [], "rows for several hardware have needs of their own"


def test_a_row_that_hides_another_is_a_mistake():
    wide = release("2.0", hardware=("SW*",), needs={"memory": 5})
    narrow = release("2.0", hardware=("SW10*",), needs={"memory": 9})
    assert [kind for kind, _ in checked(wide, narrow)] == ["rows-shadow"]
    assert checked(narrow, wide) == []


def test_the_needs_of_a_model_are_those_of_the_first_row_that_fits():
    wide = release("2.0", hardware=("SW*",), needs={"memory": 5})
    narrow = release("2.0", hardware=("SW10*",), needs={"memory": 9})
    for rows, memory in (((narrow, wide), 9), ((wide, narrow), 5)):
        entries = [
            each for at, one in enumerate(rows) for each in published(one, file=f"{at}.json")
        ]
        (merged,) = ReleaseIndex(entries).releases
        assert merged.needs_of("SW10-4").memory == memory
        assert merged.needs_of("SW20").memory == 5


def test_a_step_over_a_file_of_several_rows_is_found():
    rows = [release("1.5.2", hardware=(glob,)) for glob in ("SW10*", "SW*")]
    assert kinds(*rows, release("2.0", hardware=("SW*",), from_=("1.5",))) == []


def test_an_upgrade_step_with_a_slip_names_the_near_ones():
    found = checked(release("7.4.1"), release("7.5.0", from_=("7.4.1a",)))
    assert [kind for kind, _ in found] == ["unreachable-step"]
    assert "(similar: 7.4.1" in found[0][1]


def test_a_date_to_come_is_a_mistake():
    assert kinds(release("1.0", published=date(2026, 3, 3))) == ["future-date"]
    assert kinds(release("1.0", published=date(2026, 3, 2))) == []


def test_a_version_that_does_not_fit_the_name_is_a_mistake():
    namings = [Naming(sheet())]
    wrong = release("2.0", file="sw-1.0.img")
    assert kinds(wrong, namings=namings) == ["version-and-name"]
    assert kinds(release("1.0"), namings=namings) == []


def test_an_upgrade_step_that_nothing_offers_is_a_mistake():
    assert kinds(release("2.0", from_=("1.5",))) == ["unreachable-step"]
    assert kinds(release("1.5.2"), release("2.0", from_=("1.5",))) == []


def steps(start, target, *all_releases):
    found = catalog.path(index(*all_releases).releases, start, target)
    return None if found.steps is None else [one.version for one in found.steps]


CHAIN = (
    release("2.0", from_=("1",)),
    release("2.5", from_=("1",)),
    release("3.0", from_=("2.0", "2.5")),
    release("4.0", from_=("3",)),
)


def test_the_shortest_chain_prefers_the_newest_steps():
    assert steps("1.0", "4.0", *CHAIN) == ["2.5", "3.0", "4.0"]
    assert steps("3.0", "4.0", *CHAIN) == ["4.0"]
    assert steps("4.0", "4.0", *CHAIN) == []
    assert steps("1.0", "2.0", release("1.0"), release("2.0")) == ["2.0"]


def test_a_version_that_no_source_lists_is_refused_with_the_nearest():
    with pytest.raises(catalog.NoSuchVersionError) as refused:
        steps("9.0", "4.0", *CHAIN)
    assert refused.value.near
    with pytest.raises(catalog.NoSuchVersionError, match=r"9\.0"):
        steps("1.0", "9.0", *CHAIN)
    assert steps("1.0", "2.0", *CHAIN) == ["2.0"], (
        "a version that a release is reached from is known"
    )


def test_a_path_says_for_which_hardware_and_variant_it_is():
    wide = release("1.5", hardware=("SW*",), from_=("1.0",), variant="lite")
    narrow = release("2.0", hardware=("SW10", "SW20"), from_=("1.5",), variant="lite")
    found = catalog.path(index(wide, narrow).releases, "1.0", "2.0")
    assert [one.version for one in found.steps] == ["1.5", "2.0"], (
        "overlapping globs find their way"
    )
    assert (found.hardware, found.variant) == (("SW10", "SW20"), "lite")
    other = release("2.0", file="other.img", hardware=("RT*",), from_=("1.5",))
    assert catalog.path(index(wide, other).releases, "1.0", "2.0").steps is None


def test_where_there_is_no_chain_the_missing_link_is_named():
    found = catalog.path(index(CHAIN[0], CHAIN[3]).releases, "1.0", "4.0")
    assert found.steps is None
    assert found.missing == (
        "sw-4.0.img: it can only be installed over 3; running is 1.0; from 1.0 there are "
        "paths to: 1.0, 2.0"
    )
    assert "older" in catalog.path(index(*CHAIN).releases, "4.0", "2.0").missing


def test_a_release_that_says_no_way_to_itself_may_also_be_gone_back_to():
    assert steps("4.0", "1.0", release("1.0"), *CHAIN) == ["1.0"]


def test_a_chain_never_leads_over_another_makers_releases():
    switch, router = ({"hardware": (glob,)} for glob in ("SW*", "RT*"))
    other = release("2.0", **router)
    base = release("1.0", **switch)
    assert steps("1.0", "3.0", base, other, release("3.0", from_=("2.0",), **switch)) is None
    own = release("2.0", file="own.img", **switch)
    last = release("3.0", from_=("2.0",), **switch)
    assert steps("1.0", "3.0", base, own, last) == ["2.0", "3.0"]


versions = st.sampled_from(["1.0", "2.0", "3.0", "4.0", "5.0"])


@given(st.dictionaries(versions, st.sets(versions)), versions, versions)
def test_every_step_of_a_chain_is_a_direct_upgrade(froms, start, target):
    known = [release(version, from_=tuple(sorted(each))) for version, each in froms.items()]
    listed = {*froms, *(each for lines in froms.values() for each in lines)}
    if start not in listed or target not in froms:
        with pytest.raises(catalog.NoSuchVersionError):
            catalog.path(index(*known).releases, start, target)
        return
    found = catalog.path(index(*known).releases, start, target)
    at = start
    for one in found.steps or ():
        assert at in one.reached_from
        at = one.version
    if found.steps:
        assert at == target


def for_switches(*all_releases):
    """The releases, each told to be for switches where it is not told for what."""
    replace = msgspec.structs.replace
    return published(*(replace(one, hardware=one.hardware or ("SW*",)) for one in all_releases))


def picked(*all_releases, components=(), **more):
    more.setdefault("hardware", Hardware(model="SW10", revision="B", memory=1000))
    what = device(member(image("1.0"), components=components), **more)
    found = judged(what, catalog=for_switches(*all_releases))
    return catalog.pick(found, Wants(Policy()).of(found))


def test_the_recommended_release_that_fits_is_picked():
    found = picked(
        release("1.0", status="old"),
        release("2.0", status="recommended"),
        release("3.0", status="current"),
    )
    assert found.chosen.version == "2.0"
    assert [one.version for one in found.path.steps] == ["2.0"]
    assert {each.release.version: len(each.against) for each in found.others} == {
        "1.0": 1,
        "3.0": 1,
    }


@pytest.mark.parametrize(
    ("more", "why"),
    [
        ({"needs": {"memory": 2000}}, "memory"),
        ({"needs": {"volume": 2**50}}, "volume"),
        ({"status": "withdrawn"}, "withdrawn"),
        ({"variant": "lite"}, "variant lite"),
    ],
)
def test_what_speaks_against_a_release_is_told(more, why):
    one = msgspec.structs.replace(device(member()).running, variant="full")
    found = picked(release("2.0", **more))
    if "variant" in more:
        what = msgspec.structs.replace(device(member()), running=one)
        both = judged(what, catalog=for_switches(release("2.0", **more)))
        found = catalog.pick(both, Wants(Policy()).of(both))
    assert found.chosen is None
    assert why in found.others[0].against[0]


def test_a_part_that_the_image_carries_may_lag():
    needs = {"components": {"loader": "2"}}
    assert picked(release("2.0", needs=needs, carries={"loader": "2"})).chosen is not None


def test_a_part_that_nothing_brings_stands_in_the_way():
    found = picked(release("2.0", needs={"components": {"loader": "2"}}), components=None)
    assert found.chosen.version == "2.0"
    assert (found.path.hops, found.path.known) == (None, False)
    assert "it needs loader 2, and the installed version is unknown" in found.path.missing


def test_a_release_of_which_nobody_tells_the_hardware_is_not_picked():
    what = judged(device(member()), catalog=published(release("2.0")))
    found = catalog.pick(what, Wants(Policy()).of(what))
    assert found.chosen is None
    assert found.others[0].against == ("the catalog does not say which hardware it is for",)


def test_a_release_for_other_hardware_is_not_even_told():
    found = picked(release("2.0", hardware=("RT*",)))
    assert (found.chosen, found.others) == (None, ())


def test_the_catalog_commands_answer_on_the_first_line(ovek):
    file = ovek.folder / "catalog/list.json"
    text = file.read_text().replace('"kind":', '"hardware": ["SW*"], "kind":')
    file.write_text(text)
    assert ovek("catalog", "list").stdout.startswith("3 releases.")
    assert ovek("catalog", "check").stdout == "Nothing is wrong with 3 releases.\n"
    assert ovek("catalog", "path", "sw", "--to", "3.0").stdout.startswith("1.0 → 3.0 on SW10: d")
    assert "has no version '7'" in ovek.refuses("catalog", "path", "1.0", "--to", "7")
    assert ovek("catalog", "pick", "sw").stdout.startswith("sw: sw-3.0.img (3.0, status not told)")
    ovek("catalog", "find", "zzz", exits=1)
    assert "'zzz'" in ovek.refuses("catalog", "show", "zzz")
    for typed in (["list"], ["check"], ["pick", "sw"], ["path", "sw", "--to", "3.0"]):
        assert ovek.json("catalog", *typed)["format"].startswith("ovek.")


def test_a_release_is_shown_with_who_vouches_for_it_since_when_and_every_doubt(ovek):
    releases = [
        {"file": "a.img", "size": 1, "digests": {"sha512": digest("a", "sha512")},
         "told_by": {"file": "x.csv", "line": 3, "when": "2026-02-01"}},
        {"file": "b.img", "digests": {"md5": digest("b")}, "digest_doubtful": True},
    ]  # fmt: skip
    head = {"format": "ovek.catalog/1", "publisher": "P", "releases": releases}
    ovek.write("catalog/more.json", json.dumps(head))
    sure = ovek("catalog", "show", "a.img").stdout
    assert "published by  P" in sure
    assert "listed since  2026-02-01" in sure
    assert "doubt" not in sure
    doubted = ovek("catalog", "show", "b.img").stdout
    assert doubted.splitlines()[1:3] == [
        "  doubt         its publisher doubts the digest: a file with it is disputed, not proven",
        "  doubt         only an MD5 is known, which detects damage but not tampering",
    ]
    own = {"format": "ovek.catalog/1", "trust": "own", "releases": [{"file": "c.img"}]}
    ovek.write("catalog/own.json", json.dumps(own))
    assert "your own records only" in ovek("catalog", "show", "c.img").stdout
