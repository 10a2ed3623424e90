"""Devices of all ways, hostile and good ones at once: each hostile one costs its own line only."""

import asyncio
import gc
import resource

import pytest

from hostile.agents import AGENTS, LOOPBACK, SERVERS, serving_others
from hostile.server import serving
from hostile.test_devices import HEALTHY, sheet
from ovek.model.fleet import FleetDevice, Login, Snmp
from ovek.sources import ssh
from ovek.sources.interview import Wanted
from ovek.sources.survey import survey
from ovek.sources.trust import HostKeys, Secrets
from ovek.sources.ways import snmp as snmp_way
from ovek.sources.ways.interface import Setup

LIMITS = ssh.Limits(connect=2.0, login=3.0, answer=4.0, device=15.0)


@pytest.fixture(scope="module")
def outcomes(tmp_path_factory):
    """What came of all hostile agents and servers, healthy devices beside them, and the memory."""
    folder = tmp_path_factory.mktemp("others")
    pytest.importorskip("pysnmp")
    found, ends = {}, {}

    def done(outcome) -> None:
        found[outcome.name] = outcome
        ends[outcome.name] = len(ends)

    async def run(others, public) -> None:
        async with serving(*HEALTHY, more=HEALTHY) as (ports, key):
            hosts = folder / "known_hosts"
            lines = [f"[{LOOPBACK}]:{port} {public}" for port in others.values()]
            own = key.export_public_key("openssh").decode()
            hosts.write_text(
                "\n".join([*lines, *(f"[{LOOPBACK}]:{p} {own}" for p in ports.values())])
            )
            jobs, logins, snmp = [], {}, {}

            def device(name, port, way) -> None:
                more = {"netconf": port} if way == "netconf" else {}
                jobs.append(
                    (
                        FleetDevice(name=name, sheet="box", ways=(way,), host=LOOPBACK, **more),
                        sheet(),
                    )
                )
                logins[name] = Login(name=name, host=LOOPBACK, port=port, user="reader")
                snmp[name] = Snmp(version="2c", port=port)

            for name in ("honest", *AGENTS):
                device(name, others[name], "snmp")
            for name in SERVERS:
                device(name, others[name], "netconf")
            for name, port in ports.items():
                device(name, port, "ssh")
            setup = Setup(
                site=folder, wanted=Wanted((), {}, everything=True), limits=LIMITS, tries=1,
                keys=HostKeys(hosts, take_new=False), secrets=Secrets(lambda: "harbour"),
                logins=logins, snmp=snmp,
            )  # fmt: skip
            await asyncio.wait_for(survey(jobs, setup, 100, lambda outcome: None, done), 300)

    with pytest.MonkeyPatch.context() as patch, serving_others() as (others, public):
        patch.setenv("OVEK_SNMP_COMMUNITY", "quay")
        patch.setattr(snmp_way, "_WAIT", 1.0)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        asyncio.run(run(others, public))
        gc.collect()
        grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    return found, grown


def test_all_that_are_good_are_read_and_the_others_cost_their_own_line(outcomes):
    found, _ = outcomes
    for name in HEALTHY:
        assert found[name].device.running.version == "7.4", found[name]
    assert found["honest"].device.hardware.model == "HX-1", found["honest"]

    for name in (*AGENTS, *SERVERS):  # each that is hostile costs its own line
        one = found[name]
        assert one.result in ("not read", "half"), one
        assert "defect" not in (one.problem or ""), one
        assert one.problem is None or one.do, one
    # What they send is not kept.
    assert outcomes[1] < 200 * 2**10, f"{outcomes[1] / 2**10:.0f} MiB more"  # KiB, on Linux


def test_nothing_is_printed_of_what_a_library_makes_of_it(capfd, tmp_path):
    pytest.importorskip("pysnmp")
    with serving_others() as (others, _), pytest.MonkeyPatch.context() as patch:
        patch.setenv("OVEK_SNMP_COMMUNITY", "quay")
        patch.setattr(snmp_way, "_WAIT", 0.3)
        name = "nests its answer"
        device = FleetDevice(name=name, sheet="box", ways=("snmp",), host=LOOPBACK)
        setup = Setup(
            site=tmp_path, wanted=Wanted((), {}), limits=LIMITS, tries=1, secrets=Secrets(),
            keys=HostKeys(tmp_path / "known_hosts", take_new=False),
            snmp={name: Snmp(version="2c", port=others[name])},
        )  # fmt: skip
        asyncio.run(
            survey([(device, sheet())], setup, 1, lambda outcome: None, lambda outcome: None)
        )
    assert capfd.readouterr().err == ""
