"""What options are where nobody typed them, and which of two says counts."""

import json

import pytest


@pytest.fixture
def user(tmp_path, monkeypatch):
    """Writes the user's own defaults."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    file = tmp_path / "config/ovek/defaults.toml"
    file.parent.mkdir(parents=True)

    def write(text: str):
        file.write_text(text)
        return file

    return write


def of_site(ovek, text: str) -> None:
    with (ovek.folder / "fleet.toml").open("a") as file:
        file.write(f"\n{text}\n")


def is_csv(done) -> bool:
    return done.stdout.startswith("device,")


def test_what_is_typed_counts_before_the_environment_the_site_and_the_user(ovek, user, monkeypatch):
    assert not is_csv(ovek("audit", exits=None))
    user('[audit]\nformat = "csv"\n')
    assert is_csv(ovek("audit", exits=None))
    of_site(ovek, '[defaults.audit]\nformat = "json"')
    assert json.loads(ovek("audit", exits=None).stdout)
    monkeypatch.setenv("OVEK_AUDIT_FORMAT", "csv")
    assert is_csv(ovek("audit", exits=None))
    assert json.loads(ovek("audit", "--format", "json", exits=None).stdout)
    monkeypatch.setenv("OVEK_AUDIT_FORMAT", "xml")
    told = ovek("audit", exits=2).stderr
    assert "'xml' is not a valid choice" in told and "(from OVEK_AUDIT_FORMAT)" in told


def test_a_site_is_named_by_the_environment_or_by_the_user(ovek, user, monkeypatch, tmp_path):
    here = ovek("audit", exits=None).stdout
    there, elsewhere = str(ovek.folder), tmp_path / "elsewhere"
    elsewhere.mkdir()
    monkeypatch.setattr(ovek, "folder", elsewhere)
    assert "is not an Ovek site folder" in ovek.refuses("audit")
    user(f'site = "{there}"\n')
    assert ovek("audit", exits=None).stdout == here
    user('site = "nowhere"\n')
    monkeypatch.setenv("OVEK_SITE", there)
    assert ovek("audit", exits=None).stdout == here


def test_flags_and_options_that_are_given_often(ovek, user, monkeypatch):
    user('quiet = true\n[audit]\nonly = ["boot-target-missing", "proof-old"]\nverbose = false\n')
    told = json.loads(ovek("audit", "--format", "json", exits=None).stdout)
    assert told["only"] == ["boot-target-missing", "proof-old"]
    user('[audit]\nonly = "proof-old"\n')
    assert json.loads(ovek("audit", "--format", "json", exits=None).stdout)["only"] == ["proof-old"]
    monkeypatch.setenv("OVEK_AUDIT_VERBOSE", "maybe")
    told = ovek("audit", exits=2).stderr
    assert "'maybe' is not a valid boolean" in told and "(from OVEK_AUDIT_VERBOSE)" in told


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("[audti]\nx = 1\n", "key audti: 'audti' is neither a command nor an option of all"),
        ("[audti]\nx = 1\n", "Did you mean 'audit'?"),
        ('[audit]\nfail_on = "note"\n', "has no option --fail_on. Did you mean 'fail-on'?"),
        ('[audit]\nfail-on = "nots"\n', "key audit.fail-on: 'nots' is not a valid choice"),
        ('[audit]\nfail-on = ["note"]\n', "is not one value"),
        ('[audit]\nverbose = "yes"\n', "'yes' is neither true nor false"),
        ('color = "red"\n', "key color: 'red' is not a valid choice"),
        ("audit = 7\n", "key audit: 7 is not a table. Write [audit]"),
        ('[audit]\nwhere = "planet=3"\n', "key audit.where: no such key"),
        ("x\n", "invalid TOML"),
        ("", "is empty"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_file_is_told_with_its_key(ovek, user, text, told):
    file = user(text)
    message = ovek.refuses("audit")
    assert str(file) in message and told in message
    if text and "where" not in text:
        assert told in ovek.refuses("settings")
    ovek("audit", "--help")  # which needs none of it


@pytest.mark.parametrize("option", ["may-drop", "log", "site", "on"])
def test_a_site_from_elsewhere_says_how_results_look_and_no_more(ovek, option):
    of_site(ovek, f'[defaults.audit]\n{option} = "running"')
    assert f"a site may not set --{option}" in ovek.refuses("audit")
    assert not (ovek.folder / "running").exists()
    ovek("bootwalk", exits=None)  # which that is not about


def test_a_large_fleet_file_has_defaults_too(ovek):
    of_site(ovek, "#" + "x" * 2**17 + '\n[defaults.audit]\nformat = "csv"')
    assert is_csv(ovek("audit", exits=None))
    assert is_csv(ovek("audit", exits=None))  # from what is kept of the file


def test_settings_say_what_is_set_and_where(ovek, user, monkeypatch):
    assert ovek("settings").stdout.startswith("No option is set: all are as shipped.")
    file = user('color = "never"\n[catalog.import]\npublisher = "Me"\n[audit]\nformat = "csv"\n')
    of_site(ovek, '[defaults.audit]\nformat = "json"')
    monkeypatch.setenv("OVEK_BOOTWALK_FORMAT", "json")
    told = json.loads(ovek("settings", "--format", "json").stdout)["settings"]
    assert [tuple(one[key] for key in ("command", "option", "value", "origin", "place"))
            for one in told] == [
        (None, "color", "never", "user", f"{file}, color"),
        ("audit", "format", "json", "site", "fleet.toml, defaults.audit.format"),
        ("bootwalk", "format", "json", "environment", "OVEK_BOOTWALK_FORMAT"),
        ("catalog import", "publisher", "Me", "user", f"{file}, catalog.import.publisher"),
    ]  # fmt: skip
    shown = ovek("settings").stdout
    assert shown.startswith("4 options set.\nLooked in: variables OVEK_…, ")
    assert len(ovek("settings", "-v").stdout.splitlines()) > 150


def test_quiet_leaves_results_and_errors(ovek):
    ovek.write("catalog/odd.sha256", "no digest\n" + "0" * 64 + "  a.img\n")
    loud, quiet = ovek("audit", exits=None), ovek("audit", "-q", exits=None)
    assert "line is ignored" in loud.stderr and quiet.stderr == ""
    assert quiet.stdout == loud.stdout
    assert "has no device 'nobody'" in ovek.refuses("audit", "nobody", "--quiet")
