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
from functools import cache
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

import asyncssh
import pytest
from msgspec.structs import replace

from ovek.app.devices import Devices
from ovek.app.policy import wants_of
from ovek.demo import write_site
from ovek.engine.bootwalk import walk_device
from ovek.engine.change_text import starts_of
from ovek.engine.plan import Asked
from ovek.engine.rules import subject_of
from ovek.engine.runbook import runbook
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device
from ovek.files.site import Site
from ovek.model.digest import Digests
from ovek.model.snapshot import Bank, BootEntry, Setting
from ovek.standin.hands import read_server
from ovek.standin.obey import hands_of, obeyed
from ovek.standin.serve import LANGUAGES
from ovek.standin.state import read_standins

SAMPLE = Path(__file__).parent.parent / "src/ovek/demo/site"
STANDINS = {one.device.device: one for one in read_standins(SAMPLE / "standins.jsonl")}
SERVER = read_server(SAMPLE / "server.json")
NOW = datetime(2026, 11, 26, tzinfo=UTC)
OWN = TemporaryDirectory()  # a site keeps what it read beside it: not where the sample lies


@cache
def sample_devices():
    write_site(folder := Path(OWN.name) / "sample")
    site = Site(folder)
    devices = Devices(site, site.state("2026-11-20"))
    return devices, wants_of(devices)


class Person:
    """Somebody at the keyboard of one stand-in, with Ovek beside it."""

    def __init__(self, name: str, what=None) -> None:
        self.standin = STANDINS[name]
        self.hands = hands_of(self.standin, SERVER)
        self.hands.device = what or self.hands.device
        self.devices, self.wants = sample_devices()

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
        return runbook(self.subject(), self.wants, Asked(waivers=self.devices.site.waivers))

    def type(self, step) -> None:
        """Type a step; a question changes nothing, whoever answers it."""
        assert step.do.lines, f"no line for {step.words}"
        for line in step.do.lines:
            said = obeyed(self.standin.language, self.hands, line.split())
            assert said == "done\n" or step.do.change in ("check-digest", "back-up"), (line, said)

    def boots(self):
        """What the stand-in's own loader would start, as a runbook tells it."""
        other = copy.copy(self.hands)
        other.reload()
        return other.device.running.version, other.device.at


def version(boots: str | None) -> str | None:
    """The version of a start as a runbook tells it: of members that differ, the first."""
    return boots and boots.split(" from ")[0].split(" / ")[0]


@pytest.mark.parametrize("name", sorted(STANDINS))
def test_a_runbook_typed_line_by_line_leaves_nothing_to_do(name):
    person = Person(name)
    book = person.book()
    if book.find_out:
        return
    for step in book.steps:
        person.type(step)
        began, at = person.boots()
        if step.do.next_boot == "stranded":
            assert at == "boot-loader", step.words
        else:
            assert began == version(step.do.boots), step.words
    again = person.book()
    assert again.steps == (), [step.words for step in again.steps]
    if not book.open:
        assert again.next_boot == "proven" and len(again.done) == len(book.done) + len(book.left)
        if book.target is not None:
            assert person.hands.device.running.version == book.target


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
        if step.cut is not None and step.cut.next_boot == "stranded":
            assert device.at == "boot-loader", (number, step.words)
        elif step.cut is not None:
            assert device.running.version == version(step.cut.boots), (number, step.words)
        else:  # it is made, or it is not
            was = steps[number - 1].do.boots if number else starts_of(person_walk(name))
            either = {version(step.do.boots), version(was)}
            assert device.running.version in either, (number, step.words)


def shaken(what, chance: Random):
    """A device of the sample in some other state: files gone or broken, settings that are stale."""
    members = []
    for one in what.members or ():
        volumes = tuple(
            replace(each, files=each.files and files_of(each, chance), free=room(each, chance))
            for each in one.volumes or ()
        )
        banks = tuple(bank_of(each, chance) for each in one.banks or ())
        boot = one.boot and settings_of(one, volumes, chance)
        members.append(replace(one, volumes=volumes, banks=banks, boot=boot))
    return replace(what, members=tuple(members))


def room(volume, chance):
    free = volume.free and int(volume.free * chance.choice((1, 1, 1, 2, 0.5)))
    used = sum(file.size or 0 for file in volume.files or ())
    return free and min(free, (volume.capacity or free) - used)


def files_of(volume, chance):
    files = []
    for file in volume.files or ():
        roll = chance.random()
        if file.path.endswith(".img") and roll < 0.15:
            continue
        if file.digests is not None and roll < 0.25:
            torn = {name: value[::-1] for name, value in file.digests}
            file = replace(file, size=(file.size or 1) - 1, digests=Digests(**torn))
        files.append(file)
    return tuple(files)


def bank_of(bank, chance):
    if bank.places is not None or chance.random() < 0.7:
        return bank
    return Bank(name=bank.name, state=chance.choice(("bad", "empty")))


def settings_of(one, volumes, chance):
    boot = one.boot
    paths = [
        f"flash:{file.path}"
        for each in volumes
        for file in each.files or ()
        if each.name == "flash" and file.path.endswith(".img")
    ]
    if boot.order.saved is not None and paths and chance.random() < 0.5:
        names = chance.sample([*paths, "flash:gone.img"], chance.choice((1, min(2, len(paths)))))
        entries = tuple(BootEntry(place=name, raw=name) for name in names)
        live = entries if chance.random() < 0.6 else boot.order.live
        boot = replace(boot, order=Setting(live=live, saved=entries))
    if boot.mode.saved is not None and chance.random() < 0.2:
        mode = chance.choice(("listed", "first-found", "hold"))
        boot = replace(boot, mode=Setting(live=mode, saved=mode))
    if boot.default_bank.saved is not None and chance.random() < 0.5:
        bank = chance.choice(one.banks).name
        boot = replace(boot, default_bank=Setting(live=bank, saved=bank))
    return boot


# One that does not tell its boot settings has nothing that could be typed.
OBEYING = tuple(sorted(name for name in STANDINS if name != "petrel-bridge"))
CASES = 125 * int(os.environ.get("OVEK_CASES", "1"))


@pytest.mark.parametrize("number", range(4))
def test_the_runbook_of_any_device_is_typed_and_its_own_loader_boots_what_was_said(number):
    """Five hundred devices of the sample in other states; one of ten loses its power, too."""
    stepped = 0
    for seed in range(CASES):
        chance = Random(f"shaken {number} {seed}")
        name = chance.choice(OBEYING)
        what = shaken(STANDINS[name].device, chance)
        person = Person(name, what)
        book = person.book()
        cut_in = chance.randrange(len(book.steps) or 1) if chance.random() < 0.1 else None
        for at, step in enumerate(book.steps):
            if cut_in == at and step.cut is not None and not step.do.harm:
                person.hands.cut = True
                for line in step.do.lines[:1]:
                    obeyed(person.standin.language, person.hands, line.split())
                device = person.hands.device
                stuck = step.cut.next_boot == "stranded"
                assert (device.at == "boot-loader") == stuck, (number, seed, step.words)
                break
            person.type(step)
            stepped += 1
            began, where = person.boots()
            if step.do.next_boot == "stranded":
                assert where == "boot-loader", (number, seed, step.words)
            elif step.do.next_boot == "proven" and " / " not in (step.do.boots or ""):
                assert began == version(step.do.boots), (number, seed, step.words)
        else:
            again = person.book()
            assert again.steps == (), (number, seed, [step.words for step in again.steps])
    assert stepped > CASES


WORKED_ON = ("brack-slip", "arle-stack", "brack-wifi", "brack-edge", "arle-dist-2", "arle-quay")


@contextmanager
def served(folder: Path, *more: str):
    """The sample fleet, served by the built program, and obeying."""
    command = [sys.executable, "-m", "ovek", "standin", "serve", "--site", str(folder), "--obey"]
    with subprocess.Popen([*command, *more], stdout=subprocess.PIPE, encoding="utf-8") as serving:
        assert "simulated devices are listening" in serving.stdout.readline()
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
        assert 20 * 2**20 < rates["brack-slip"] <= 500 * 2**20
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
                assert one["next_boot"] == "proven"
                assert one["steps"] == [], one["device"]


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
        assert walked["next_boot"] == step["cut"]["next_boot"]
        (began,) = walked["members"]
        assert (
            f"{began['boots']['version']} from {began['boots']['place']}" == (step["cut"]["boots"])
        )


def person_walk(name: str):
    return Person(name).subject().walk
