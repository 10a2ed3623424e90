"""A pretend person types every runbook of the sample fleet into its stand-ins, line by line.

The stand-ins have loaders of their own, written apart from Ovek's walk: where they and a runbook
differ, one of the two is wrong.
"""

import asyncio
import copy
import csv
import json
import os
import shutil
import subprocess
import sys
from collections import deque
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

import asyncssh
import pytest

from ovek.cli.options import Devices
from ovek.cli.policy import wants_of
from ovek.engine.bootwalk import walk_device
from ovek.engine.rules import subject_of
from ovek.engine.runbook import runbook
from ovek.engine.telling import starts_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device
from ovek.files.site import Site
from ovek.standin.hands import read_server
from ovek.standin.obey import hands_of, obeyed
from ovek.standin.serve import LANGUAGES
from ovek.standin.state import read_standins

SAMPLE = Path(__file__).parent.parent / "src/ovek/demo/site"
STANDINS = {one.device.device: one for one in read_standins(SAMPLE / "standins.jsonl")}
SERVER = read_server(SAMPLE / "server.json")
NOW = datetime(2026, 11, 26, tzinfo=UTC)


class Person:
    """Somebody at the keyboard of one stand-in, with Ovek beside it."""

    def __init__(self, name: str) -> None:
        self.standin = STANDINS[name]
        self.hands = hands_of(self.standin, SERVER)
        site = Site(SAMPLE)
        self.devices, self.wants = Devices(site, site.state("2026-11-20")), wants_of(site)

    def subject(self):
        device = self.hands.device
        judged = judge_device(device, self.devices.judge(device))
        times = times_of(device, NOW)
        walk = walk_device(judged)
        expected = self.devices.expected(device.device)
        return subject_of(
            judged, walk, self.wants.policy, self.wants.of(judged), times, None, expected
        )

    def book(self):
        return runbook(self.subject(), self.wants, "all", self.devices.site.waivers)

    def type(self, step) -> None:
        """Type a step; a question changes nothing, whoever answers it."""
        assert step.do.lines, f"no line for {step.words}"
        for line in step.do.lines:
            said = obeyed(self.standin.language, self.hands, line.split())
            assert said == "done\n" or step.do.change in ("measure", "back-up"), (line, said)

    def starts(self):
        """What the stand-in's own loader would start, as a runbook tells it."""
        other = copy.copy(self.hands)
        other.reload()
        return other.device.running.version, other.device.at


def version(starts: str | None) -> str | None:
    """The version of a start as a runbook tells it: of members that differ, the first."""
    return starts and starts.split(" from ")[0].split(" / ")[0]


@pytest.mark.parametrize("name", sorted(STANDINS))
def test_a_runbook_typed_line_by_line_leaves_nothing_to_do(name):
    person = Person(name)
    book = person.book()
    if book.find_out:
        return
    for step in book.steps:
        person.type(step)
        began, at = person.starts()
        if step.do.reload == "stranded":
            assert at == "boot-loader", step.words
        else:
            assert began == version(step.do.starts), step.words
    again = person.book()
    assert again.steps == (), [step.words for step in again.steps]
    if not book.open:
        assert again.reload == "ready" and len(again.done) == len(book.done) + len(book.left)
        if book.wants is not None:
            assert person.hands.device.running.version == book.wants


@pytest.mark.parametrize("name", sorted(STANDINS))
def test_a_power_cut_in_any_step_leaves_what_the_step_said(name):
    steps = Person(name).book().steps
    for number, step in enumerate(steps):
        person = Person(name)
        for before in steps[:number]:
            person.type(before)
        person.hands.cut = True
        for line in step.do.lines[:1]:
            obeyed(person.standin.language, person.hands, line.split())
        if person.hands.cut:  # a question: it was not even begun
            continue
        device = person.hands.device
        if step.cut is not None and step.cut.reload == "stranded":
            assert device.at == "boot-loader", (number, step.words)
        elif step.cut is not None:
            assert device.running.version == version(step.cut.starts), (number, step.words)
        else:  # it is made, or it is not
            was = steps[number - 1].do.starts if number else starts_of(person_walk(name))
            either = {version(step.do.starts), version(was)}
            assert device.running.version in either, (number, step.words)


WORKED_ON = ("brack-slip", "arle-stack", "brack-wifi", "brack-edge", "arle-dist-2", "heron-bridge")


@contextmanager
def served(folder: Path, *more: str):
    """The sample fleet, served by the built program, and obeying."""
    command = [sys.executable, "-m", "ovek", "standin", "serve", "--site", str(folder), "--obey"]
    with subprocess.Popen([*command, *more], stdout=subprocess.PIPE, encoding="utf-8") as serving:
        assert "stand-ins are served" in serving.stdout.readline()
        try:
            yield
        finally:
            serving.terminate()


def told(folder: Path, *command: str):
    """What the built program says as JSON."""
    done = subprocess.run(
        [sys.executable, "-m", "ovek", *command, "--site", str(folder), "--format", "json"],
        capture_output=True,
        check=False,
        env={**os.environ, "OVEK_PASSWORD": "harbour", "SSH_AUTH_SOCK": ""},
    )
    assert done.returncode in (0, 1, 3), done.stderr
    return json.loads(done.stdout)


async def at_the_keyboard(folder: Path, name: str, lines) -> None:
    """Log in at a stand-in as a person does, and type; it logs out where it starts anew."""
    rows = csv.DictReader((folder / "addresses.csv").read_text().splitlines())
    port = next(int(row["port"]) for row in rows if row["name"] == name)
    language = LANGUAGES[STANDINS[name].language]
    prompt, waiting = language.prompt(STANDINS[name].device), deque(lines)
    while waiting:
        async with asyncssh.connect(
            "127.0.0.1", port, username="reader", password="harbour", known_hosts=None,
            agent_path=None, config=None,
        ) as connection, connection.create_process(term_type="ansi") as process:  # fmt: skip
            seen = ""
            while waiting:
                while not seen.endswith(prompt) and (part := await process.stdout.read(4096)):
                    seen += part
                if not seen.endswith(prompt):
                    break
                seen = ""
                process.stdin.write(waiting.popleft() + "\n")
            with suppress(TimeoutError):
                await asyncio.wait_for(process.stdout.read(), 5)


@pytest.fixture
def sample(tmp_path, monkeypatch):
    """A site of the sample fleet that was never read."""
    folder = tmp_path / "site"
    shutil.copytree(SAMPLE, folder)
    shutil.rmtree(folder / "snapshots")
    return folder


def test_over_ssh_a_person_types_the_runbooks_and_everything_is_done(sample):
    with served(sample):
        surveyed = told(sample, "survey", *WORKED_ON)["devices"]
        rates = {one["device"]: one["digest_rate"] for one in surveyed}
        # The stand-ins say how fast they are: 500 MiB a second, and a little for the way.
        assert 200 * 2**20 < rates["brack-slip"] <= 500 * 2**20
        books = {one["device"]: one for one in told(sample, "runbook", *WORKED_ON)["devices"]}

        async def work():
            lines = {
                name: [line for step in books[name]["steps"] for line in step["do"]["lines"]]
                for name in WORKED_ON
            }
            assert all(lines.values())
            await asyncio.gather(*(at_the_keyboard(sample, *each) for each in lines.items()))

        asyncio.run(work())
        told(sample, "survey", *WORKED_ON, "--fresh")
        after = told(sample, "runbook", *WORKED_ON)["devices"]
        assert [one["device"] for one in after if one["steps"]] == []
        audit = told(sample, "audit")
        for one in audit["devices"]:
            if one["device"] in WORKED_ON:
                assert one["reload"] == "ready"
                assert {f["severity"] for f in one["findings"] if f["do"]} == set(), one["device"]


def test_over_ssh_a_power_cut_in_the_first_change_leaves_what_was_said(sample):
    with served(sample, "--cut-after", "1"):
        told(sample, "survey", "heron-bridge", "brack-slip")
        books = {
            one["device"]: one
            for one in told(sample, "runbook", "heron-bridge", "brack-slip")["devices"]
        }
        step = books["brack-slip"]["steps"][0]
        asyncio.run(at_the_keyboard(sample, "brack-slip", step["do"]["lines"]))
        told(sample, "survey", "brack-slip", "--fresh")
        (walked,) = told(sample, "bootwalk", "brack-slip")["devices"]
        assert walked["reload"] == step["cut"]["reload"]
        (began,) = walked["members"]
        assert (
            f"{began['starts']['version']} from {began['starts']['place']}"
            == (step["cut"]["starts"])
        )


def person_walk(name: str):
    return Person(name).subject().walk
