"""Devices of all ways, hostile and good ones at once: `PYTHONPATH=tests python -m hostile.ways`.

Says of each way how many runs it took, the slowest, the slowest of a good device beside them, and
how much memory grew. `--rounds N` asks each of them N times.
"""

import argparse
import asyncio
import gc
import resource
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from unittest.mock import patch

from hostile.agents import AGENTS, LOOPBACK, SERVERS, serving_others
from hostile.server import HOSTILE, SFTP, serving
from hostile.test_devices import HEALTHY, sheet
from ovek.model.fleet import FleetDevice, Login, Snmp
from ovek.model.sheet import SftpVolume
from ovek.sources import ssh
from ovek.sources.device_session import WantedDigests
from ovek.sources.survey import survey
from ovek.sources.trust import HostKeys, Secrets
from ovek.sources.ways import snmp as snmp_way
from ovek.sources.ways.interface import Setup

# The servers run beside whoever asks them, so that a good one may be slow to take a call.
LIMITS = ssh.Limits(connect=8.0, login=10.0, answer=4.0, device=20.0)
GOOD = ("honest", *HEALTHY)
# What is hostile by its names alone is read.
READ = ("lists odd names",)


def way_of(name):
    """The way by which a device of this name is read."""
    if name in AGENTS or name == "honest":
        return "snmp"
    return "netconf" if name in SERVERS else "sftp" if name in SFTP else "ssh"


async def _survey(folder, names, others, public):
    found, took, begun = {}, {}, time.monotonic()

    def done(outcome):
        found[outcome.name] = outcome
        took[outcome.name] = time.monotonic() - begun

    over_ssh = [name for name in names if way_of(name) in ("ssh", "sftp")]
    async with serving(*over_ssh, more=HEALTHY) as (ports, key):
        own = key.export_public_key("openssh").decode()
        lines = [f"[{LOOPBACK}]:{port} {public}" for port in others.values()]
        lines += [f"[{LOOPBACK}]:{port} {own}" for port in ports.values()]
        (folder / "known_hosts").write_text("\n".join(lines))
        jobs, logins, snmp = [], {}, {}
        for name in names:
            way, port = way_of(name), (others | ports)[name]
            more = {"netconf": port} if way == "netconf" else {}
            device = FleetDevice(name=name, sheet="box", access=(way,), host=LOOPBACK, **more)
            volume = SftpVolume(volume="flash", path="/f")
            jobs.append((device, sheet(sftp=(volume,)) if way == "sftp" else sheet()))
            logins[name] = Login(name=name, host=LOOPBACK, port=port, user="reader")
            snmp[name] = Snmp(version="2c", port=port)
        setup = Setup(
            site=folder, wanted=WantedDigests((), {}, everything=True), limits=LIMITS, tries=1,
            keys=HostKeys(folder / "known_hosts", take_new=False),
            secrets=Secrets(lambda: "harbour"), logins=logins, snmp=snmp,
        )  # fmt: skip
        await asyncio.wait_for(survey(jobs, setup, 100, lambda outcome: None, done), 300)
    return found, took


def survey_beside(folder, names):
    """Read these beside each other: the outcome and the seconds of each, KiB more of memory."""
    with (
        patch.dict("os.environ", {"OVEK_SNMP_COMMUNITY": "quay"}),
        patch.object(snmp_way, "_WAIT", 1.0),
        serving_others() as (others, public),
    ):
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        found, took = asyncio.run(_survey(folder, names, others, public))
        gc.collect()
        return found, took, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before


def wrong(one):
    """What is wrong with how a device ended; None where nothing is."""
    if one.name in GOOD:
        device = one.device
        told = device is not None and (device.running.version or device.hardware.model)
        return None if told in ("7.4", "HX-1") else f"a good device was not read: {one}"
    if one.name not in READ and one.result not in ("not read", "partly read"):
        return f"a hostile device was read: {one}"
    if "defect" in (one.problem or "") or (one.problem is not None and not one.do):
        return f"a hostile device ended without a word for it: {one}"
    return None


def main():
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--rounds", type=int, default=90)
    rounds = asked.parse_args().rounds
    names = [*GOOD, *AGENTS, *SERVERS, *HOSTILE]
    running, slowest, grew, bad, good = Counter(), {}, 0, 0, 0.0
    with tempfile.TemporaryDirectory() as folder:
        for number in range(1, rounds + 1):
            print(f"round {number} of {rounds}", file=sys.stderr, flush=True)
            found, took, more = survey_beside(Path(folder), names)
            grew += more
            for name, one in found.items():
                if (said := wrong(one)) is not None:
                    bad += 1
                    print(said, flush=True)
                if name in GOOD:
                    good = max(good, took[name])
                else:
                    running[way_of(name)] += 1
                    slowest[way_of(name)] = max(slowest.get(way_of(name), 0.0), took[name])
    for way, number in running.items():
        print(f"{way}: {number} runs, the slowest {slowest[way]:.1f} s")
    print(f"good devices beside them: the slowest {good:.1f} s")
    print(f"memory grew by {grew / 2**10:.0f} MiB; {bad} ended wrongly")
    sys.exit(1 if bad else 0)


if __name__ == "__main__":
    main()
