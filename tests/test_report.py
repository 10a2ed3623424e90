"""The report: one page that needs nothing else, opened in a real browser."""

import base64
import json
import re
import shutil
import zlib
from datetime import timedelta
from html.parser import HTMLParser

import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from builders import NOW, ONE, device, flash, image, member, plain
from ovek.app import report as room
from ovek.cli import report
from ovek.demo import write_site
from ovek.engine.news import news
from ovek.model.report import ImageState, Remembered
from ovek.model.snapshot import Evidence, Hardware, Source

CHROMIUM = shutil.which("chromium")


def sw(name="sw", *files, **more):
    boots = more.pop("boots", (ONE,))
    files = files or (image("1.0"),)
    volume = more.pop("volume", flash(*files))
    return device(member(volumes=(volume,), boots=boots), device=name, place=boots[0], **more)


@pytest.fixture
def fleet(ovek):
    """Three devices: one goes, one starts nothing, one was never read."""
    source = Source(kind="survey", evidence=(Evidence(name="all", sha256="ab" * 32),))
    ovek.snapshot(
        sw("good", image("1.0"), image("2.0"), source=source),
        sw("bad", image("1.0", content="not what was released")),
    )
    listed = (ovek.folder / "fleet.toml").read_text()
    ovek.write("fleet.toml", listed + '[[device]]\nname = "away"\nsheet = "switch"\nsite = "Far"\n')
    ovek.write("policy.toml", 'format = "ovek.policy/1"\ntarget = "2.0"\n')
    return ovek


def made(fleet, *typed, exits=3):
    """Run the report; one device was never read, so that it ends with 3."""
    return fleet("report", *typed, exits=exits)


def packed(data):
    return base64.b64encode(zlib.compress(data, wbits=31)).decode()


def drawn(page):
    """What the page's script unpacks, by device."""
    text = page.read_text()
    found = re.search(r'<script type="text/plain" id="data">([^<]*)</script>', text)
    devices = json.loads(zlib.decompress(base64.b64decode(found[1]), wbits=31))
    names = re.findall(r'<details id="d:([^"]*)"', text)
    return dict(zip(names, devices, strict=True))


# ---- what is in it -------------------------------------------------------------------------------


def test_the_first_line_is_the_answer_and_the_page_says_the_same(fleet):
    done = made(fleet, "-o", "fleet.html")
    first, second = done.stdout.splitlines()
    assert first == (
        "3 devices, as of 2026-03-02 21:14 UTC: 1 go, 1 no-go, 1 unclear (1 of them not read)."
    )
    assert second == "Written: fleet.html (3 devices)"
    text = (fleet.folder / "fleet.html").read_text()
    assert f"<h1>{first}</h1>" in text
    assert "away" in text and "nothing bootable" in text and "Far" in text


def test_a_device_has_its_walk_images_flash_findings_runbook_and_evidence(fleet):
    made(fleet, "-o", "fleet.html")
    good, bad = (drawn(fleet.folder / "fleet.html")[name] for name in ("good", "bad"))
    assert [step[0] for step in good["walk"][0]["steps"]] == ["boots"]
    assert [step[0] for step in bad["walk"][0]["steps"]] == ["falls"]
    assert (
        good["images"][0]["digests"][0][0] == "MD5"
        and len(good["images"][0]["digests"][0][1]) == 32
    )
    assert good["evidence"] == [["all", "ab" * 32]]
    assert good["flash"][0]["parts"][0][1] == "running or next"
    assert bad["findings"][0][1] == "stranded"
    assert good["book"]["steps"] and good["book"]["head"]


def test_the_flash_is_to_scale_and_tells_whether_the_target_fits(fleet):
    small = flash(image("1.0"), plain("old.log", 1000), free=1000, capacity=600_000_000)
    large = flash(image("1.0"), free=500_000_000, capacity=600_000_000)
    fleet.snapshot(
        sw("small", volume=small), sw("large", volume=large), sw("has", image("1.0"), image("2.0"))
    )
    made(fleet, "-o", "fleet.html")
    found = drawn(fleet.folder / "fleet.html")
    assert (
        found["small"]["flash"][0]["short"]
        and "does not fit" in found["small"]["flash"][0]["needs"]
    )
    assert not found["large"]["flash"][0]["short"] and found["large"]["flash"][0]["line"] > 0
    assert found["has"]["flash"][0]["needs"] == ""
    assert abs(sum(part[3] for part in found["small"]["flash"][0]["parts"]) - 1000) < 5


def test_a_proof_tells_its_age(fleet):
    old = image("1.0", digests_at=NOW - timedelta(days=9))
    fleet.snapshot(sw("good", old, image("2.0")))
    made(fleet, "good", "-o", "fleet.html", exits=0)
    first, second = drawn(fleet.folder / "fleet.html")["good"]["images"]
    assert " days before this page, 2026-02-2" in first["read"]
    assert second["read"] == "read with the device"


def test_a_page_of_then_says_of_when_it_is(fleet):
    fleet("history", "add")
    later = replace(sw("good", boots=("flash:gone.img",)), taken_at=NOW + timedelta(days=9))
    fleet.snapshot(later, name="later.jsonl")
    day = f"{NOW + timedelta(days=1):%Y-%m-%d}"
    told = made(fleet, "good", "-o", "then.html", "--as-of", day, "--knowing", "now", exits=0)
    assert told.stdout.startswith(f"1 device, as of {day} 23:59 UTC: 1 go")
    now = made(fleet, "good", "-o", "now.html", exits=0).stdout
    assert now.startswith("1 device, as of 2026-03-11 21:14 UTC: 0 go, 1 no-go")


def test_the_files_it_was_made_of_are_told_with_their_sha256(fleet):
    import hashlib

    made(fleet, "-o", "fleet.html")
    text = (fleet.folder / "fleet.html").read_text()
    for name in ("catalog/list.json", "snapshots/now.jsonl", "policy.toml", "sheets/switch.toml"):
        assert name in text
        assert hashlib.sha256((fleet.folder / name).read_bytes()).hexdigest() in text


# ---- since the last one --------------------------------------------------------------------------


def test_the_news_are_told_since_the_page_that_was_there(fleet):
    made(fleet, "-o", "fleet.html")
    assert 'id="news"' not in (fleet.folder / "fleet.html").read_text()
    made(fleet, "-o", "fleet.html")
    assert "Nothing changed." in (fleet.folder / "fleet.html").read_text()
    shutil.copy(fleet.folder / "fleet.html", fleet.folder / "first.html")
    fleet.snapshot(
        replace(sw("good", image("2.0"), running="2.0"), taken_at=NOW + timedelta(days=1))
    )
    done = made(fleet, "-o", "fleet.html")
    assert "changes since" in done.stdout
    text = (fleet.folder / "fleet.html").read_text()
    assert "good: go → no-go" in text and "good: 1.0 → 2.0" in text and "bad" in text
    made(fleet, "-o", "other.html", "--since", "first.html")
    assert "good: go → no-go" in (fleet.folder / "other.html").read_text()
    short = made(fleet, "--format", "markdown", "--since", "first.html").stdout
    assert "Answers that changed: 2 (good: go → no-go" in short


def test_what_somebody_accepted_stands_in_nobodys_way_and_is_no_news(fleet):
    made(fleet, "-o", "fleet.html")
    listed = (
        '[[waiver]]\nrule = "{}"\ndevice = "bad"\nby = "Ada"\nwhy = "known"\nuntil = 2099-01-01\n'
    )
    rules = ("stranded", "image-altered", "release-not-target", "no-fallback")
    fleet.write("waivers.toml", "".join(map(listed.format, rules)))
    told = made(fleet, "--format", "markdown", "--since", "fleet.html").stdout
    assert "Findings that closed" in told and "bad: stranded" in told
    fleet.snapshot(sw("good", image("1.0"), boots=("flash:gone.img", ONE)))
    waiver = listed.format("boot-target-missing").replace('"bad"', '"good"')
    fleet.write("waivers.toml", waiver)
    told = made(fleet, "good", "--format", "markdown", exits=0).stdout
    assert told.startswith(
        "# 1 device, as of 2026-03-02 21:14 UTC: 1 go (1 of them only because of a waiver), 0 no-go"
    )
    assert "- **" not in told
    made(fleet, "good", "-o", "good.html", exits=0)
    assert "Every device is a go." in (fleet.folder / "good.html").read_text()


def test_news_are_of_both_and_those_of_one_are_new_or_gone():
    was = Remembered(
        format="ovek.report/1", as_of=NOW, site="Test",
        devices={"a": ImageState("go", "1.0", ("x",)), "b": ImageState("go", "1.0", ())},
    )  # fmt: skip
    found = news(
        was, {"a": ImageState("go", "2.0", ("y", "x")), "c": ImageState("no-go", "1.0", ("z",))}
    )
    assert (found.answers, found.versions) == ((), (("a", "1.0", "2.0"),))
    assert (found.opened, found.closed) == ((("a", "y"),), ())
    assert (found.new, found.gone) == (("c",), ("b",))


@pytest.mark.parametrize(
    "text",
    [
        "<p>a page of somebody's</p>",
        '<script type="text/plain" id="remembered">AAAA</script>',
        '<script type="text/plain" id="remembered"></script>',
        f'<script type="text/plain" id="remembered">{packed(b"{}")}</script>',
    ],
)
def test_what_is_no_report_is_neither_read_nor_overwritten(fleet, text):
    fleet.write("fleet.html", text)
    told = fleet.refuses("report", "-o", "fleet.html")
    assert "fleet.html" in told and "delete it" in told
    assert (fleet.folder / "fleet.html").read_text() == text
    assert "fleet.html" in fleet.refuses("report", "-o", "new.html", "--since", "fleet.html")
    assert not (fleet.folder / "new.html").exists()


def test_a_report_of_a_later_format_is_refused(fleet):
    data = {"format": "ovek.report/9", "as_of": NOW.isoformat(), "site": "", "devices": {}}
    told = packed(json.dumps(data).encode())
    fleet.write("a.html", f'<script type="text/plain" id="remembered">{told}</script>')
    assert "ovek.report/9" in fleet.refuses("report", "-o", "b.html", "--since", "a.html")


# ---- other forms ---------------------------------------------------------------------------------


def test_the_short_form_goes_into_a_ticket(fleet):
    told = made(fleet, "--format", "markdown").stdout
    assert told.startswith(
        "# 3 devices, as of 2026-03-02 21:14 UTC: 1 go, 1 no-go, 1 unclear (1 of them not read)."
    )
    assert "- **no-go** nothing bootable: 1 device: bad" in told
    assert "## Not read" in told and len(told.splitlines()) < 40
    for name in ("ticket.md", "ticket.md", "ticket"):  # the next night it is written over
        done = made(fleet, "--format", "markdown", "-o", name)
        assert (fleet.folder / name).read_text() == told
        assert f"Written: {name} (" in done.stdout


def test_a_page_needs_a_place(fleet):
    assert "-o FILE.html" in fleet("report", exits=2).stderr


def test_a_folder_gets_a_page_for_each_part_of_the_fleet(fleet, monkeypatch):
    monkeypatch.setattr(room, "ON_A_PAGE", 4)
    names = [f"sw-{at}" for at in range(5)]
    fleet.snapshot(*(sw(name) for name in names))
    many = CliRunner().invoke(report.command, ["-o", "fleet.html", "--site", str(fleet.folder)])
    assert many.exit_code == 2 and "too many for one page" in many.output
    folder = fleet.folder / "pages"
    for _ in range(2):
        asked = ["-o", f"{folder}/", "--site", str(fleet.folder)]
        done = CliRunner().invoke(report.command, asked)
        assert done.exit_code == 3, done.output
    assert "changes since" in done.output
    pages = sorted(file.name for file in folder.iterdir())
    assert pages == ["index.html", "part-001.html", "part-002.html", "part-003.html"]
    index = (folder / "index.html").read_text()
    assert 'href="part-003.html"' in index and "<details" not in index
    assert [*drawn(folder / "part-001.html")] == names[:2]
    assert [*drawn(folder / "part-003.html")] == names[4:]


def test_pages_of_an_earlier_and_larger_fleet_do_not_stay(fleet, monkeypatch):
    monkeypatch.setattr(room, "ON_A_PAGE", 4)
    folder = fleet.folder / "pages"
    asked = ["-o", f"{folder}/", "--site", str(fleet.folder)]
    for number, left in ((5, 3), (2, 1)):
        fleet.snapshot(*(sw(f"sw-{at}") for at in range(number)))
        (folder / "part-xyz.html").parent.mkdir(exist_ok=True)
        (folder / "part-xyz.html").write_text("somebody's")
        CliRunner().invoke(report.command, asked)
        assert len(list(folder.glob("part-0*.html"))) == left
    assert (folder / "part-xyz.html").read_text() == "somebody's"


def test_selected_devices_alone(fleet):
    made(fleet, "-o", "one.html")
    made(fleet, "good", "-o", "one.html", exits=0)
    assert [*drawn(fleet.folder / "one.html")] == ["good"]
    assert "Nothing changed." in (fleet.folder / "one.html").read_text()


def test_the_days_are_drawn_where_there_is_a_history(fleet):
    made(fleet, "-o", "fleet.html")
    assert 'id="days"' not in (fleet.folder / "fleet.html").read_text()
    later = replace(sw("good"), taken_at=NOW + timedelta(days=2))
    fleet.snapshot(later, name="later.jsonl")
    fleet("history", "add")
    made(fleet, "-o", "fleet.html")
    text = (fleet.folder / "fleet.html").read_text()
    assert 'id="days"' in text and "<polyline" in text and "dashed: no-go" in text


# ---- hostile names -------------------------------------------------------------------------------

HOSTILE = '"><script>window.hacked=1</script><img src=x onerror=window.hacked=1>\u202e\x1b[31m'


class Tags(HTMLParser):
    """The tags of a page, and its attributes that run something."""

    def __init__(self):
        super().__init__()
        self.tags, self.running = [], []

    def handle_starttag(self, tag, attrs):
        self.tags.append(tag)
        self.running += [name for name, _ in attrs if name.startswith("on")]


@pytest.fixture
def hostile(fleet):
    other = image("1.0", path=f"x/{HOSTILE}.img", content="other")
    name = HOSTILE.replace("/", "")
    fleet.snapshot(
        sw("good", image("1.0"), other, boots=(f"flash:x/{HOSTILE}.img", ONE), role=HOSTILE,
           site=HOSTILE, hardware=Hardware(model=HOSTILE)),
        sw(name),
    )  # fmt: skip
    return fleet


def test_hostile_names_are_text_in_the_page(hostile):
    hostile("report", "-o", "fleet.html", exits=None)
    text = (hostile.folder / "fleet.html").read_text()
    found = Tags()
    found.feed(text)
    assert found.tags.count("script") == 3 and "img" not in found.tags and not found.running
    assert "\u202e" not in text and "\x1b" not in text
    assert "\u202e" not in json.dumps(drawn(hostile.folder / "fleet.html"), ensure_ascii=False)


# ---- in a browser --------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def browser():
    sync = pytest.importorskip("playwright.sync_api", reason="playwright is not installed")
    if CHROMIUM is None:
        pytest.skip("Debian's chromium is not installed")
    quiet = ["--no-sandbox", "--disable-gpu", "--disable-background-networking",
             "--disable-component-update", "--disable-sync", "--no-first-run"]  # fmt: skip
    with sync.sync_playwright() as driver:
        started = driver.chromium.launch(executable_path=CHROMIUM, args=quiet)
        yield started
        started.close()


@pytest.fixture
def opened(browser):
    """Opens a page: it must ask for nothing, and complain of nothing."""
    contexts, asked, complaints = [], [], []

    def open_(file, **more):
        context = browser.new_context(viewport={"width": 1280, "height": 800}, **more)
        contexts.append(context)
        page = context.new_page()
        page.on("request", lambda request: asked.append(request.url))
        page.on("console", lambda told: complaints.append(told.text))
        page.on("pageerror", lambda error: complaints.append(str(error)))
        page.goto(file.as_uri())
        return page

    yield open_
    for context in contexts:
        context.close()
    assert all(url.startswith(("file:", "data:")) for url in asked), asked
    assert not complaints


@pytest.fixture(scope="module")
def sample(tmp_path_factory):
    """The page of the sample site, which has a device for every kind of trouble."""
    folder = tmp_path_factory.mktemp("sample")
    write_site(folder / "site")
    asked = ["--site", str(folder / "site"), "-o", str(folder / "sample.html")]
    assert CliRunner().invoke(report.command, asked).exit_code == 3  # one was never read
    return folder / "sample.html"


def names(page):
    shown = page.locator("#t-fleet tbody tr:not([hidden]) th")
    return shown.all_inner_texts()


def test_the_table_sorts_and_filters_and_says_how_many(sample, opened):
    page = opened(sample)
    everything = names(page)
    page.get_by_role("button", name="Device").click()
    assert names(page) == sorted(everything)
    assert page.locator("th[aria-sort=ascending]").inner_text() == "Device"
    page.get_by_role("button", name="Device").click()
    assert names(page) == sorted(everything, reverse=True)
    page.get_by_role("button", name="Answer").click()
    answers = page.locator("#t-fleet tbody tr td:nth-child(2)").all_inner_texts()
    assert answers[0].startswith("✗ no-go") and answers[-1].startswith("✓ go")
    page.get_by_label("Filter", exact=True).fill("arle 7.4")
    assert all(name.startswith("arle") for name in names(page)) and names(page)
    assert (
        page.locator("#f-number").inner_text() == f"{len(names(page))} of {len(everything)} devices"
    )
    page.get_by_label("Filter", exact=True).fill("")
    page.get_by_label("Answer", exact=True).select_option("no-go")
    assert set(names(page)) == {
        "arle-quay", "arle-crane", "brack-core", "brack-edge", "brack-pier", "brack-wifi",
        "skarn-gate", "skarn-mast",
    }  # fmt: skip
    hidden = page.locator("details[hidden]").count()
    assert hidden == len(everything) - 8 - 1  # the one that was never read has no section


def test_a_link_opens_a_device_which_is_drawn_then_and_only_then(sample, opened):
    page = opened(sample)
    assert page.locator(".device > *").count() == 0
    page.locator("#answer").get_by_role("link", name="brack-core").click()
    box = page.locator("details[open]")
    box.locator(".path").wait_for()
    assert box.locator(".path li").count() == 3
    assert "is truncated" in box.inner_text() and "power failure" in box.inner_text()
    assert page.evaluate("document.activeElement.tagName") == "SUMMARY"
    again = opened(sample)
    again.goto(sample.as_uri() + "#d:brack-core")
    again.locator("details[open] .path").wait_for()


def test_it_works_with_the_keyboard_alone(sample, opened):
    page = opened(sample)
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.className") == "skip"
    page.get_by_label("Filter", exact=True).focus()
    page.keyboard.type("brack-pier")
    assert names(page) == ["brack-pier"]
    page.locator("#t-fleet tbody tr:not([hidden]) a").focus()
    page.keyboard.press("Enter")
    page.locator("details[open] .path").wait_for()
    page.keyboard.press("Enter")
    assert page.locator("details[open]").count() == 0
    page.locator("#t-fleet button").first.focus()
    page.keyboard.press("Space")
    assert page.locator("th[aria-sort=ascending]").count() == 1


def test_on_paper_there_are_no_filters_and_only_what_was_opened(sample, opened):
    page = opened(sample)
    page.evaluate("document.getElementById('d:arle-core').open = true")
    page.locator("details[open] .path").wait_for()
    page.emulate_media(media="print")
    assert not page.locator(".filters").is_visible() and not page.locator("nav").is_visible()
    assert page.locator("details:visible").count() == 1
    assert page.locator("#t-fleet").is_visible()
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(255, 255, 255)"
    assert page.pdf(format="A4").startswith(b"%PDF")


def test_nothing_is_wider_than_a_small_screen(sample, opened):
    page = opened(sample)
    page.set_viewport_size({"width": 400, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 410


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_nothing_serious_keeps_anybody_from_reading_it(sample, opened, scheme):
    axe = pytest.importorskip("axe_playwright_python.sync_playwright").Axe()
    page = opened(sample, color_scheme=scheme)
    dark = page.evaluate("getComputedStyle(document.body).backgroundColor") != "rgb(255, 255, 255)"
    assert dark == (scheme == "dark")
    for name in ("brack-core", "arle-stack", "petrel-bridge", "brack-pier"):
        page.evaluate(f"document.getElementById('d:{name}').open = true")
    page.locator("details[open] .path").nth(3).wait_for()
    found = axe.run(page).response["violations"]
    serious = [one for one in found if one["impact"] in ("serious", "critical")]
    assert not serious, [(one["id"], one["nodes"][0]["html"][:200]) for one in serious]


def test_hostile_names_do_nothing_in_a_browser(hostile, opened):
    hostile("report", "-o", "fleet.html", exits=None)
    page = opened(hostile.folder / "fleet.html")
    page.evaluate("document.querySelectorAll('details').forEach((each) => { each.open = true })")
    page.locator("details[open] .path").nth(1).wait_for()
    assert page.evaluate("window.hacked") is None
    assert page.locator("img").count() == 0
    page.get_by_label("Site", exact=True).select_option(index=1)
    assert page.evaluate("window.hacked") is None
