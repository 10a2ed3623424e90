"""Devices of all ways, hostile and good ones at once: each hostile one costs its own line only."""

import asyncio

import pytest

from hostile.agents import AGENTS, LOOPBACK, SERVERS, serving_others
from hostile.test_devices import sheet
from hostile.ways import GOOD, LIMITS, survey_beside, wrong
from ovek.model.fleet import FleetDevice, Snmp
from ovek.sources.device_session import WantedDigests
from ovek.sources.survey import survey
from ovek.sources.trust import HostKeys, Secrets
from ovek.sources.ways import snmp as snmp_way
from ovek.sources.ways.interface import Setup


@pytest.fixture(scope="module")
def outcomes(tmp_path_factory):
    """What came of all hostile agents and servers, healthy devices beside them, and the memory."""
    pytest.importorskip("pysnmp")
    folder = tmp_path_factory.mktemp("others")
    found, _, grown = survey_beside(folder, [*GOOD, *AGENTS, *SERVERS])
    return found, grown


def test_all_that_are_good_are_read_and_the_others_cost_their_own_line(outcomes):
    found, grown = outcomes
    assert [said for one in found.values() if (said := wrong(one)) is not None] == []
    # What they send is not kept.
    assert grown < 200 * 2**10, f"{grown / 2**10:.0f} MiB more"  # KiB, on Linux


def test_nothing_is_printed_of_what_a_library_makes_of_it(capfd, tmp_path):
    pytest.importorskip("pysnmp")
    with serving_others() as (others, _), pytest.MonkeyPatch.context() as patch:
        patch.setenv("OVEK_SNMP_COMMUNITY", "quay")
        patch.setattr(snmp_way, "_WAIT", 0.3)
        name = "nests its answer"
        device = FleetDevice(name=name, sheet="box", access=("snmp",), host=LOOPBACK)
        setup = Setup(
            site=tmp_path, wanted=WantedDigests((), {}), limits=LIMITS, tries=1, secrets=Secrets(),
            keys=HostKeys(tmp_path / "known_hosts", take_new=False),
            snmp={name: Snmp(version="2c", port=others[name])},
        )  # fmt: skip
        asyncio.run(
            survey([(device, sheet())], setup, 1, lambda outcome: None, lambda outcome: None)
        )
    assert capfd.readouterr().err == ""
