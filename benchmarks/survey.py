"""The `survey` row: `ovek survey` of stand-ins against a bare AsyncSSH loop of the same commands.

`python benchmarks/survey.py [STANDINS] [AT_ONCE]` (default 500 and 100). The stand-ins run in a
process of their own. The bare loop logs in, sends what the survey sent to each device, waits for
each prompt, and does nothing with the answers. Both are timed whole, in turn, three times; the
ratio is the median of the pairs.
"""

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from generated import write_site

BARE = """
import asyncio, csv, json, sys
import asyncssh

async def one(gate, host, port, user, name, commands):
    async with gate:
        async with asyncssh.connect(host, port, username=user, password="harbour",
                                    known_hosts=None) as connection:
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


def seconds(*command: str) -> float:
    start = time.perf_counter()
    done = subprocess.run(command, stdout=subprocess.DEVNULL, check=False)
    if done.returncode not in (0, 1, 3):
        sys.exit(f"{command} ended with {done.returncode}")
    return time.perf_counter() - start


def main() -> None:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    at_once = sys.argv[2] if len(sys.argv) > 2 else "100"
    os.environ["OVEK_PASSWORD"] = "harbour"
    with tempfile.TemporaryDirectory() as name:
        site = Path(name)
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
        record = site / "record.jsonl"
        ovek = (sys.executable, "-m", "ovek")
        survey = (*ovek, "survey", "--fresh", "--site", name, "--at-once", at_once)
        bare = (sys.executable, "-c", BARE, name, at_once)
        serve = (*ovek, "standin", "serve", "--site", name)
        with subprocess.Popen([*serve, "--record", str(record)], stdout=subprocess.PIPE) as server:
            server.stdout.readline()
            seconds(*survey)
            server.terminate()
        asked: dict[str, str] = {}
        for line in record.read_text().splitlines():
            entry = json.loads(line)
            asked[entry["device"]] = asked.get(entry["device"], "") + entry["received"]
        commands = {n: [c for c in t.split("\n") if c.strip()] for n, t in asked.items()}
        (site / "asked.json").write_text(json.dumps(commands))
        with subprocess.Popen(serve, stdout=subprocess.PIPE) as server:
            server.stdout.readline()
            pairs = []
            for _ in range(3):
                shutil.rmtree(site / "snapshots")
                pairs.append((seconds(*survey), seconds(*bare)))
            server.terminate()
        ratio = statistics.median(ours / theirs for ours, theirs in pairs)
        ours, theirs = (statistics.median(column) for column in zip(*pairs, strict=True))
        print(
            f"survey: {number} stand-ins, {at_once} at a time: {ours:.1f} s, bare loop "
            f"{theirs:.1f} s, ratio {ratio:.2f} (wanted: 1.10 or less)"
        )


if __name__ == "__main__":
    main()
