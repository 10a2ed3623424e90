"""The `survey` rows: `ovek survey` of stand-ins against a bare AsyncSSH loop of the same commands.

`python benchmarks/survey.py [STANDINS] [AT_ONCE]` (default 500 and 100). The stand-ins run in a
process of their own. The bare loop logs in, sends what the survey sent to each device, waits for
each prompt, and does nothing with the answers: once with AsyncSSH's own ciphers, once with those
that the survey offers. All are timed whole, in turn, twice.
"""

import json
import os
import shutil
import statistics
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from generated import write_site
from measure import OVEK, PYTHON, Row, at_most, show, size_asked, timed
from ovek.sources.ssh import CIPHERS

BARE = """
import asyncio, csv, json, sys
import asyncssh

async def one(gate, host, port, user, name, commands):
    async with gate:
        async with asyncssh.connect(host, port, username=user, password="harbour",
                                    known_hosts=None,
                                    encryption_algs=eval(sys.argv[3])) as connection:
            async with connection.create_process(term_type="vt100", term_size=(512, 0),
                                                 errors="replace") as process:
                async def prompt():
                    text = ""
                    while not text.endswith(name + "> "):
                        piece = await process.stdout.read(65536)
                        if not piece:
                            return
                        text += piece
                        if text.endswith("blank goes on]"):
                            text = ""
                            process.stdin.write(" ")
                await prompt()
                for command in commands:
                    process.stdin.write(command + "\\n")
                    await prompt()
            connection.abort()

async def main(site, at_once):
    asked = json.load(open(site + "/asked.json"))
    gate = asyncio.Semaphore(at_once)
    rows = list(csv.DictReader(open(site + "/addresses.csv")))
    await asyncio.gather(*(one(gate, row["host"], int(row["port"]), row["user"], row["name"],
                               asked[row["name"]]) for row in rows))

asyncio.run(main(sys.argv[1], int(sys.argv[2])))
"""


OWN = "()"  # AsyncSSH's own choice
CIPHER = """
import asyncio, csv, sys
import asyncssh

async def main(site, ciphers):
    row = next(csv.DictReader(open(site + "/addresses.csv")))
    async with asyncssh.connect(row["host"], int(row["port"]), username=row["user"],
                                password="harbour", known_hosts=None,
                                encryption_algs=eval(ciphers)) as connection:
        print(connection.get_extra_info("recv_cipher"))

asyncio.run(main(sys.argv[1], sys.argv[2]))
"""


def _write(site: Path, number: int) -> None:
    """A site of so many devices, and what its stand-ins answer."""
    snapshot = write_site(site, number, files=12)
    lines = [json.loads(line) for line in snapshot.read_text().splitlines()]
    snapshot.unlink()
    (site / "fleet.toml").write_text(
        'name = "generated"\nlists = ["addresses.csv"]\n'
        + "".join(f'[[device]]\nname = "{d["device"]}"\nsheet = "oxwick-40"\n' for d in lines)
    )
    states = [
        {"format": "ovek.standin/1", "language": "oxwick", "digest_rate": 10**15, "device": d}
        for d in lines
    ]
    (site / "standins.jsonl").write_text("".join(json.dumps(s) + "\n" for s in states))


def _commands(record: Path) -> dict[str, list[str]]:
    """What each stand-in was sent, line by line."""
    asked: dict[str, str] = {}
    for line in record.read_text().splitlines():
        entry = json.loads(line)
        asked[entry["device"]] = asked.get(entry["device"], "") + entry["received"]
    return {name: [c for c in text.split("\n") if c.strip()] for name, text in asked.items()}


def rows(number: int = 500, at_once: int = 100) -> Iterator[Row]:
    """How long a survey of so many takes, so many at a time."""
    os.environ["OVEK_PASSWORD"] = "harbour"
    typed = f"python benchmarks/survey.py {number} {at_once}"
    with tempfile.TemporaryDirectory() as name:
        site = Path(name)
        _write(site, number)
        record = site / "record.jsonl"
        survey = (*OVEK, "survey", "--fresh", "--site", name, "--at-once", str(at_once))
        serve = (*OVEK, "standin", "serve", "--site", name)
        with subprocess.Popen([*serve, "--record", str(record)], stdout=subprocess.PIPE) as server:
            server.stdout.readline()
            _survey(*survey)
            server.terminate()
        (site / "asked.json").write_text(json.dumps(_commands(record)))
        with subprocess.Popen(serve, stdout=subprocess.PIPE) as server:
            server.stdout.readline()
            took = list[tuple[float, float, float]]()
            bare = [(PYTHON, "-c", BARE, name, str(at_once), c) for c in (OWN, repr(CIPHERS))]
            for _ in range(2):
                shutil.rmtree(site / "snapshots")
                took.append((_survey(*survey), *(timed(*each).seconds for each in bare)))
            named = [
                subprocess.run(
                    [PYTHON, "-c", CIPHER, name, c], check=True, capture_output=True, text=True
                ).stdout.strip()
                for c in (OWN, repr(CIPHERS))
            ]
            server.terminate()
    ours = statistics.median(each[0] for each in took)
    for goal, at, which in ((0.8, 1, "its own choice"), (1.2, 2, "the survey's choice")):
        ratio = statistics.median(each[0] / each[at] for each in took)
        other = statistics.median(each[at] for each in took)
        yield at_most(
            f"survey of {number} simulated devices, {at_once} at a time, {named[1]}, against a "
            f"bare AsyncSSH loop with {which} of cipher, {named[at - 1]}", goal, ratio,
            f"{ours:.1f} s against {other:.1f} s", typed,
        )  # fmt: skip


def _survey(*command: str) -> float:
    """The seconds of a survey, which tells of its progress."""
    quiet = ["sh", "-c", '"$@" 2> /dev/null', "survey", *command]
    return timed(*quiet, ends=(0, 1, 3)).seconds


if __name__ == "__main__":
    show(rows(size_asked(500), size_asked(100, 2)))
