"""What the pages in docs/ show works as shown."""

import re
from pathlib import Path

from ovek.engine.audit import rule_cards
from ovek.render.rules import page

DOCS = Path(__file__).parent.parent / "docs"


def blocks(page: str, language: str) -> list[str]:
    text = (DOCS / page).read_text()
    return re.findall(rf"^```{language}\n(.*?)^```", text, re.MULTILINE | re.DOTALL)


def test_the_guide_to_sheets_ends_with_a_sheet_that_understands_its_session(ovek):
    ovek.write("session.txt", blocks("sheets.md", "text")[0])
    ovek.write("sheets/quillet-q2.toml", blocks("sheets.md", "toml")[0])
    ovek("sheet", "check", "sheets/quillet-q2.toml")
    tried = ovek("sheet", "try", "quillet-q2", "session.txt").stdout
    assert tried.startswith("quillet-q2 understands the whole session; no fact is missing.")
    assert "path=q2-2.8.bin" in tried


def test_the_fleet_that_the_pages_show_is_right(ovek):
    fleet = blocks("survey.md", "toml")[0]
    ovek.write("fleet.toml", fleet)
    ovek.write("addresses.csv", "name,port\narle-core,2222\n")
    unread = ovek.json("audit", exits=3)["not_read"]
    assert [one["device"] for one in unread] == ["arle-core", "box-7", "old-core"]


def test_the_policy_and_the_sheet_that_the_pages_show_are_right(ovek):
    toml = {text.split('"')[1]: text for text in blocks("files.md", "toml")}
    ovek.write("sheets/oxwick-40.toml", toml["ovek.sheet/1"])
    ovek.write("policy.toml", toml["ovek.policy/1"])
    names = {"sw": "MV Tern", "holm-ramp": "Port Arle"}
    names |= dict.fromkeys(("arle-quay", "core-1", "core-2"), "Port Arle")
    rows = [
        f'[[device]]\nname = "{name}"\nsheet = "switch"\nsite = "{place}"\n'
        for name, place in names.items()
    ]
    ovek.write("fleet.toml", 'name = "Test"\n' + "\n".join(rows))
    ovek.write("waivers.toml", toml["ovek.waivers/1"])
    told = ovek("audit", exits=2).stderr
    assert told.count("\n") == 1, "only the sample's version is unknown in the test's catalog"
    assert "want[0].target: there is no release of version '7.4.2'" in told
    assert "is right" in ovek("sheet", "check", "sheets/oxwick-40.toml").stdout


def test_the_page_of_the_rules_is_what_the_code_says():
    assert (DOCS / "rules.md").read_text() == page(rule_cards()), "scripts/write_rules_page.py"


def test_every_picture_is_linked_from_the_readme():
    readme = (DOCS.parent / "README.md").read_text()
    pictures = [picture.name for picture in (DOCS / "screenshots").glob("*.png")]
    assert 0 < len(pictures) < 20
    assert [name for name in pictures if name not in readme] == []
