"""A site of one's own, from nothing or from a list that a network has already."""

import csv

import pytest
from click.testing import CliRunner

from ovek.cli import init
from ovek.files.site import Site


@pytest.fixture
def here(ovek):
    """A folder that is no site."""
    (ovek.folder / "fleet.toml").unlink()
    return ovek


def devices(site):
    return {one.name: one for one in Site(site.folder / "net").fleet.device}


def test_a_new_site_works_as_it_is_and_says_the_next_three_commands(here):
    shown = here("init", "net").stdout.splitlines()
    assert [line.split()[:2] for line in shown[1:] if not line.startswith("    ")] == [
        ["ovek", "catalog"], ["ovek", "survey"], ["ovek", "audit"],
    ]  # fmt: skip
    assert "no mistakes (" in here("policy", "check", "--site", "net").stdout
    assert "ovek survey" in here.refuses("audit", "--site", "net")
    assert "lists no device" in here.refuses("survey", "--site", "net")


def test_the_lines_with_comments_in_front_are_right_too(here):
    here("init", "net")
    for name in ("fleet.toml", "policy.toml"):
        file = here.folder / "net" / name
        lines = file.read_text().splitlines()
        bare = [line.removeprefix("# ") if _is_toml(line) else line for line in lines]
        file.write_text("\n".join(bare).replace('lists = ["devices.csv"]', ""))
    sheet = (here.folder / "sheets/switch.toml").read_bytes()
    here.write("net/sheets/my-switch.toml", sheet.replace(b'"switch"', b'"my-switch"'))
    listed = (here.folder / "catalog/list.json").read_text().replace('"1.0"', '"7.4.2"')
    here.write("net/catalog/list.json", listed)
    shown = here("policy", "check", "--site", "net").stdout
    assert "1 [[want]] rule, 0 waivers" in shown
    assert "role core" in shown


def _is_toml(line: str) -> bool:
    text = line.removeprefix("# ")
    front = text.split("=")[0].strip()
    return text.startswith("[[") or ("=" in text and front.isidentifier())


def test_a_table_of_devices_is_understood_by_its_titles(here):
    here.write("list.csv", "Hostname;IP address;Location;Rack\na1;192.0.2.1;North;7\na2;;South;8\n")
    done = here("init", "net", "--devices", "list.csv", "--sheet", "oxwick-40")
    assert "ignored: Rack" in done.stderr
    found = devices(here)
    assert found["a1"].host == "192.0.2.1"
    assert found["a1"].access == ("ssh",)
    assert (found["a2"].site, found["a2"].access) == ("South", ())


def test_hosts_in_groups_are_understood_as_ini_and_as_yaml(here):
    here.write("hosts", "[core]\nc1 address=192.0.2.1\nc2\n\n[edge]\n# not this\ne1 port=2222\n"
               "[all:vars]\nx=1\n")  # fmt: skip
    here("init", "net", "--devices", "hosts", "--sheet", "oxwick-40")
    first = devices(here)
    assert {name: one.role for name, one in first.items()} == {
        "c1": "core", "c2": "core", "e1": "edge",
    }  # fmt: skip
    assert first["e1"].port == 2222
    here.write(
        "hosts.yaml",
        """
all:
  children:
    core:
      hosts:
        c1: {address: 192.0.2.1}
        c2:
    edge:
      hosts: {e1: {port: 2222}}
""",
    )
    here("init", "two", "--devices", "hosts.yaml", "--sheet", "oxwick-40")
    second = {one.name: one for one in Site(here.folder / "two").fleet.device}
    assert second == first


def test_groups_may_tell_the_site_instead(here):
    here.write("hosts.ini", "[North]\nc1\n")
    here("init", "net", "--devices", "hosts.ini", "--sheet", "oxwick-40", "--groups", "site")
    assert devices(here)["c1"].site == "North"


@pytest.mark.parametrize(
    ("name", "text", "told"),
    [
        ("a.csv", "colour,shape\nred,round\n", "no column for the device name"),
        ("a.csv", "name,ip\nx,1\nx,2\n", "is listed twice"),
        ("a.csv", "name,ip\nx\n", "has 1 cells, the header has 2"),
        ("a.csv", "name,ip,address\nx,1,2\n", "both mean host"),
        ("a.csv", "name\n", "names no device"),
        ("a.csv", 'name,port\nx,"abc"\n', "port"),
        ("a.ini", "[core\nx\n", "Close its ]"),
        ("a.ini", "[core]\nx y\n", "is not KEY=VALUE"),
        ("a.ini", "[core]\nx 'y\n", "cannot be read"),
        ("a.yaml", "a: &x [1]\nb: *x\n", "has a reference"),
        ("a.yaml", "a: [1\n", "invalid YAML"),
        ("a.yaml", "- 1\n", "has no groups"),
        pytest.param("a.yaml", "[" * 5000, "invalid YAML", id="deep"),
        ("a.yaml", "a: !!python/object/apply:os.system [ls]\n", "invalid YAML"),
    ],
)
def test_a_list_that_cannot_be_used_is_told_and_nothing_is_written(here, name, text, told):
    here.write(name, text)
    assert told in here.refuses("init", "net", "--devices", name, "--sheet", "oxwick-40")
    assert not (here.folder / "net").exists()


def test_what_is_there_is_never_written_over(here):
    here("init", "net")
    before = (here.folder / "net/fleet.toml").read_bytes()
    assert "already contains fleet.toml" in here.refuses("init", "net")
    assert (here.folder / "net/fleet.toml").read_bytes() == before


def test_a_sheet_that_is_not_there_yet_is_told_with_how_to_start_it(here):
    here.write("a.csv", "name,sheet\nx,my-kind\n")
    done = here("init", "net", "--devices", "a.csv")
    assert "sheet 'my-kind' does not exist yet; learn it from a saved session" in done.stderr
    assert "  ovek sheet learn my-kind COPY --site net" in done.stdout
    here.write("b.csv", "name\nx\n")
    assert "add --sheet NAME" in here.refuses("init", "other", "--devices", "b.csv")


def test_a_cell_that_a_spreadsheet_would_run_stays_text(here):
    here.write("a.csv", 'name,site\nx,"=1+1"\n')
    here("init", "net", "--devices", "a.csv", "--sheet", "oxwick-40")
    with (here.folder / "net/devices.csv").open() as stream:
        assert next(csv.DictReader(stream))["site"] == "=1+1"


@pytest.mark.parametrize("name", ["ferries 🚢", "a'b\"c", "x\x7fy", "Ö\u202eL"])
def test_a_folder_of_any_name_is_a_site(here, name):
    here("init", name)
    assert "no mistakes (" in here("policy", "check", "--site", name).stdout


def test_saved_sessions_make_devices_and_what_is_none_is_told(here):
    here.write("saved/a1.txt", "a1> about\nX\n")
    here.write("saved/no name.txt", "b> about\n")
    done = here("init", "net", "--sessions", "saved", "--sheet", "my-kind")
    assert "no name.txt is skipped" in done.stderr
    found = devices(here)
    assert found["a1"].capture == ("sessions/a1.txt",)
    assert (here.folder / "net/sessions/a1.txt").read_text() == "a1> about\nX\n"
    assert "--take-new-keys" not in done.stdout  # no device is reached
    here.write("list.csv", "name\na2\n")
    done = here("init", "other", "--devices", "list.csv", "--sessions", "saved", "--sheet", "k")
    assert "a1.txt is skipped: the list has no device 'a1'" in done.stderr
    assert "is not a folder" in here.refuses("init", "third", "--sessions", "nowhere")
    (here.folder / "empty").mkdir()
    assert "has no saved sessions" in here.refuses("init", "third", "--sessions", "empty")
    assert not (here.folder / "third").exists()


def test_in_a_terminal_it_asks_for_what_was_not_given(here, monkeypatch):
    here.write("saved/a1.txt", "a1> about\nX\n")
    monkeypatch.chdir(here.folder)
    monkeypatch.setattr(init, "_at_terminal", lambda: True)
    done = CliRunner().invoke(init.command, ["net"], input="\nsaved\nmy-kind\n")
    assert done.exit_code == 0, done.output
    assert "A list of your devices" in done.output
    assert devices(here)["a1"].sheet == "my-kind"
    done = CliRunner().invoke(init.command, ["bare"], input="\n\n")
    assert "Created bare/ with no device yet" in done.output
