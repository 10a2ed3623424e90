"""Whom Ovek trusts, what it keeps to itself, and what hostile text may not do."""

import sys
import types
from pathlib import Path

import asyncssh
import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import NOW
from builders.results import result
from ovek.files.sheets import find_sheet
from ovek.files.site import read_sheet
from ovek.model.results.surveys import SurveyResult
from ovek.model.surveyed import Surveyed
from ovek.render.lines import width
from ovek.render.survey import answer, survey
from ovek.render.view import View
from ovek.sources.capture import answers_of
from ovek.sources.device_session import Interview, RawAnswer, WantedDigests
from ovek.sources.problem import ReadProblem
from ovek.sources.snapshot_builder import Draft
from ovek.sources.trust import PASSWORD, HostKeys, Secrets


def key(kind="ssh-ed25519", **more):
    return asyncssh.generate_private_key(kind, **more).convert_to_public()


def line(name, one):
    return f"{name} {one.export_public_key('openssh').decode()}"


@pytest.fixture
def hosts(tmp_path):
    return tmp_path / "known_hosts"


def test_a_known_key_is_trusted_at_its_own_host_and_port_only(hosts):
    one = key()
    hosts.write_text(line("192.0.2.1", one) + line("[192.0.2.1]:2222", key()))
    keys = HostKeys(hosts, take_new=False)
    keys.check("192.0.2.1", 22, one)
    with pytest.raises(ReadProblem, match="has changed"):
        keys.check("192.0.2.1", 2222, one)
    with pytest.raises(ReadProblem, match="unknown host key"):
        keys.check("192.0.2.2", 22, one)


def test_a_revoked_key_is_refused_even_where_new_keys_are_taken(hosts):
    one = key()
    hosts.write_text("@revoked " + line("*", one))
    with pytest.raises(ReadProblem, match="is revoked"):
        HostKeys(hosts, take_new=True).check("192.0.2.1", 22, one)


def test_keys_that_are_taken_are_written_and_trusted_from_then_on(hosts):
    one, other = key(), key()
    keys = HostKeys(hosts, take_new=True)
    keys.check("192.0.2.1", 22, one)
    keys.check("192.0.2.1", 2200, other)
    with pytest.raises(ReadProblem, match="has changed"):
        keys.check("192.0.2.1", 22, other)
    keys.save()
    again = HostKeys(hosts, take_new=False)
    again.check("192.0.2.1", 22, one)
    again.check("192.0.2.1", 2200, other)


def test_a_file_of_host_keys_without_a_last_line_end_is_added_to(hosts):
    one, other = key(), key()
    hosts.write_text(line("192.0.2.1", one).strip())
    keys = HostKeys(hosts, take_new=True)
    keys.check("192.0.2.2", 22, other)
    keys.save()
    again = HostKeys(hosts, take_new=False)
    again.check("192.0.2.1", 22, one)
    again.check("192.0.2.2", 22, other)


def test_a_file_that_holds_no_host_keys_is_told(ovek):
    ovek.write("known_hosts", line("|1|broken", key()))
    assert "known_hosts" in ovek.refuses("survey")


def test_nothing_is_written_where_nothing_was_taken(hosts):
    HostKeys(hosts, take_new=True).save()
    assert not hosts.exists()


def test_a_host_is_asked_for_the_kind_of_key_that_is_known_of_it(hosts):
    hosts.write_text(line("192.0.2.1", key("ecdsa-sha2-nistp256")))
    keys = HostKeys(hosts, take_new=False)
    assert keys.algorithms("192.0.2.1", 22) == ["ecdsa-sha2-nistp256"]
    assert keys.algorithms("192.0.2.2", 22) == []


@pytest.fixture
def keyring(monkeypatch):
    """A system keyring with one entry."""
    module = types.ModuleType("keyring")
    module.errors = types.SimpleNamespace(KeyringError=RuntimeError)
    module.get_password = lambda service, name: {("ovek", "me@host"): "ringed"}.get((service, name))
    monkeypatch.setitem(sys.modules, "keyring", module)
    monkeypatch.delenv(PASSWORD, raising=False)
    return module


def test_a_password_comes_from_the_environment_then_the_keyring_then_a_prompt(keyring, monkeypatch):
    prompts = []
    secrets = Secrets(lambda: prompts.append(1) or "typed")
    assert secrets.password("me", "host") == "ringed"
    assert secrets.password("me", "other") == "typed"
    assert secrets.password("you", "other") == "typed"
    assert len(prompts) == 1
    monkeypatch.setenv(PASSWORD, "told")
    assert secrets.password("me", "host") == "told"


def test_without_any_source_there_is_no_password(keyring):
    assert Secrets().password("me", "other") is None


def test_a_keyring_that_fails_is_passed_over(keyring):
    def fails(service, name):
        raise RuntimeError

    keyring.get_password = fails
    assert Secrets(lambda: "typed").password("me", "host") == "typed"


SHEETS = ("oxwick-40", "tolvane-8", "merrowby-m", "pellard-9")
lines = st.lists(
    st.one_of(
        st.text(max_size=60),
        st.sampled_from(
            ["bank primary", "trial|ok|disk:a", "slot  state", "1 2 3", "\x1b[31m", "-"]
        ),
    ),
    max_size=8,
).map("\r\n".join)


@pytest.mark.parametrize("name", SHEETS)
@given(text=lines)
def test_whatever_a_device_prints_it_costs_its_own_facts_only(tmp_path_factory, name, text):
    sheet = read_sheet(find_sheet(tmp_path_factory.getbasetemp(), name))
    interview = Interview("sw", sheet, WantedDigests((), {}), NOW)
    interview.draft.member("1")
    context = {"member": "1", "volume": "flash", "path": "a.img", "algorithm": "md5"}
    for question in sheet.reading.question:
        interview.take(RawAnswer(name=question.name, asked="x", context=context, text=text))
    interview.draft.finished({"format": "ovek.snapshot/1", "device": "sw", "sheet": name})


@given(text=lines)
def test_whatever_a_saved_session_holds_it_is_searched(text):
    sheet = read_sheet(find_sheet(Path(), "oxwick-40"))
    for typed, said in answers_of([text, f"box> {text}"], sheet.reading).answers.items():
        assert typed.strip()
        assert "\x1b" not in said


values = st.one_of(st.none(), st.integers(-5, 5), st.text(max_size=5))


@given(st.lists(st.fixed_dictionaries({"volume": st.text(min_size=1, max_size=3), "free": values})))
def test_a_draft_gives_a_right_device_whatever_values_it_loses(rows):
    draft = Draft(read_sheet(find_sheet(Path(), "oxwick-40")), NOW)
    draft.take("volume", rows)
    head = {
        "format": "ovek.snapshot/1",
        "device": "a",
        "sheet": "s",
        "taken_at": "2026-01-01T00:00:00Z",
    }
    device = draft.finished(head)
    assert device is not None and not draft.problems
    odd = any(isinstance(row["free"], str) or (row["free"] or 0) < 0 for row in rows)
    assert odd or not draft.lost


def surveyed(name="sw", result="read", **more):
    facts = {
        "problem": None,
        "do": None,
        "missing": (),
        "lost": (),
        "notes": (),
        "tries": 1,
        "seconds": 1.25,
    }
    return Surveyed(device=name, result=result, **{**facts, **more})


def shown(*results, verbose=False):
    told = result(SurveyResult, snapshot="x", began=NOW, devices=results)
    return [str(each) for each in survey(told, View(verbose=verbose))]


def test_the_first_line_of_a_survey_is_the_answer():
    assert shown(surveyed()) == ["1 device read: sw.", "Snapshot: x"]
    assert answer([surveyed("a"), surveyed("b")]) == "All 2 devices read."
    half, lost = (
        surveyed("b", "partly read", missing=("x",)),
        surveyed("c", "not read", problem="gone"),
    )
    assert (
        answer([surveyed("a"), half, lost])
        == "3 devices: 1 read, 1 partly read (b), 1 not read (c)."
    )


def test_a_device_that_was_not_read_says_why_and_what_to_do():
    lost = surveyed(
        "c" * 90, "not read", problem="the device closed the connection " * 20, do="Try again " * 20
    )
    text = shown(lost, surveyed("fine"))
    assert "do: Try again" in " ".join(text)
    assert not any("fine" in each for each in text[3:])
    assert all(len(each) <= width() for each in text[1:])
    assert any("fine" in each for each in shown(lost, surveyed("fine"), verbose=True))


def test_notes_are_for_those_who_ask():
    noted = surveyed("a", "partly read", notes=("met \x1b[2J",))
    assert "met" not in " ".join(shown(noted))
    assert "note: met \\x1b[2J" in " ".join(shown(noted, verbose=True))
