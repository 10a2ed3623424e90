"""Devices that are hostile at every stage: each costs its own line, and no other device waits."""

import asyncio
import gc

import asyncssh
import msgspec
import pytest

from hostile import server
from hostile.server import HOSTILE, LOOPBACK, SFTP, serving
from ovek.model.fleet import FleetDevice, Login
from ovek.model.sheet import Question, Reading, SftpVolume, Sheet
from ovek.sources import ssh
from ovek.sources.device_session import WantedDigests
from ovek.sources.survey import survey
from ovek.sources.trust import HostKeys, Secrets
from ovek.sources.ways.interface import Setup

VERSION = Question(
    name="version",
    ask="version",
    fills="device",
    template="Value V (\\S+)\n\nStart\n  ^runs ${V}$$ -> Record\n",
    columns={"V": "running.version"},
)
FILES = Question(
    name="files",
    ask="files",
    fills="file",
    template="Value PATH (\\S+)\n\nStart\n  ^${PATH}$$ -> Record\n",
    fixed={"volume": "flash"},
)


def sheet(by="terminal", **more) -> Sheet:
    plain = {
        "format": "ovek.sheet/1",
        "name": "box",
        "title": "A box",
        "vendor": "Nobody",
        "models": ["*"],
        "boot": {"layout": "files", "fallback": "none", "on_bad_image": "next"},
        "images": {"names": ["sw-(?P<version>[0-9.]+)\\.img", ".*\\.img"]},
    }
    reading = Reading(by=by, prompt="box> ", question=(VERSION, FILES), **more)
    return msgspec.structs.replace(msgspec.convert(plain, Sheet), reading=reading)


def read(names, tmp_path, *, more=None, limits=None, by="terminal", access=("ssh",)):
    """Survey these servers; the outcome of each by name."""
    limits = limits or ssh.Limits(connect=1.0, login=1.5, answer=2.0, device=4.0)
    outcomes = {}

    async def run() -> None:
        async with serving(*names, more=more) as (ports, key):
            public = key.export_public_key("openssh").decode()
            hosts = tmp_path / "known_hosts"
            hosts.write_text("".join(f"[{LOOPBACK}]:{p} {public}" for p in ports.values()))
            jobs, logins = [], {}
            for name, port in ports.items():
                own = ("sftp",) if name in SFTP else access
                device = FleetDevice(name=name, sheet="box", access=own, host=LOOPBACK, port=port)
                volume = SftpVolume(volume="flash", path="/f")
                one = sheet(sftp=(volume,)) if name in SFTP else sheet(by)
                jobs.append((device, one))
                logins[name] = Login(name=name, host=LOOPBACK, port=port, user="reader")
            setup = Setup(
                site=tmp_path,
                wanted=WantedDigests((), {}, everything=True),
                keys=HostKeys(hosts, take_new=False),
                secrets=Secrets(lambda: "harbour"),
                limits=limits,
                tries=2,
                wait=0.1,
                logins=logins,
            )

            def done(outcome) -> None:
                outcomes[outcome.name] = outcome

            # It guards against a hang; nothing here is about how fast it is.
            await asyncio.wait_for(survey(jobs, setup, 100, lambda outcome: None, done), 300)

    asyncio.run(run())
    gc.collect()  # what was cut off ends here, and not in the middle of another test
    return outcomes


async def _healthy(process: asyncssh.SSHServerProcess) -> None:
    process.stdout.write("\x1b[32mbox>\x1b[0m ")
    async for line in process.stdin:
        said = {"version": "runs 7.4\r\n", "files": "box>.img\r\nlog#1\r\n"}.get(line.strip(), "")
        process.stdout.write(f"{line.strip()}\r\n{said}\x1b[32mbox>\x1b[0m ")


HEALTHY = {f"healthy {at}": _healthy for at in range(3)}


def test_every_hostile_device_ends_and_costs_its_own_line_only(tmp_path):
    outcomes = read([*HOSTILE, *HEALTHY], tmp_path, more=HEALTHY)
    assert set(outcomes) == {*HOSTILE, *HEALTHY}
    for name in HEALTHY:
        assert outcomes[name].device.running.version == "7.4", outcomes[name]
    for name in HOSTILE:
        one = outcomes[name]
        if name in ("lists odd names",):
            continue
        assert one.result in ("not read", "partly read"), one
        assert "defect" not in (one.problem or ""), one
        assert one.problem is None or one.do, one


def test_a_program_that_floods_or_never_ends_is_bounded_while_it_comes(tmp_path):
    names = [*server.PROGRAMS]
    outcomes = read(names, tmp_path, by="exec")
    for name in names:
        assert outcomes[name].result in ("not read", "partly read"), outcomes[name]
        assert "defect" not in (outcomes[name].problem or ""), outcomes[name]


def test_a_prompt_in_colour_and_a_file_named_like_it_lose_no_fact(tmp_path):
    one = read(["healthy 0"], tmp_path, more=HEALTHY)["healthy 0"]
    assert one.problem is None
    assert one.notes == ()
    (volume,) = one.device.members[0].volumes
    assert [file.path for file in volume.files] == ["box>.img", "log#1"]


def test_odd_names_over_sftp_are_told_with_their_bytes_and_go_nowhere_else(tmp_path):
    one = read(["lists odd names"], tmp_path)["lists odd names"]
    (volume,) = one.device.members[0].volumes
    names = [file.path for file in volume.files]
    odd = ["\\xff\\xfe.img", "\x1b[31m.img", "a\nb"]
    assert names == [*odd, "big.img", "late.img", "sw-1.0.img"]
    assert volume.files[3].size is None


@pytest.mark.parametrize("name", ["stops at an SFTP listing", "lists files for ever"])
def test_the_limit_of_a_device_holds_whatever_sftp_does(tmp_path, name):
    limits = ssh.Limits(connect=1.0, login=1.5, answer=60.0, device=2.0)
    one = read([name], tmp_path, limits=limits)[name]
    assert one.result == "not read"
