"""`ovek policy`: what is wanted, checked against the fleet and the catalog."""

from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.command import Group
from ovek.cli.marking import mark_changes
from ovek.cli.options import (
    SITE,
    format_option,
    releases_of,
    site_context,
    write_json,
    write_lines,
)
from ovek.engine.policy import PolicyMistake, policy_mistakes, waiver_mistakes
from ovek.engine.releases import ReleaseIndex
from ovek.engine.rules.every import RULES
from ovek.engine.wanted import ContradictionError, Wants
from ovek.files.errors import InputError, ManyInputError
from ovek.files.site import Site
from ovek.model.waiver import Waiver


@click.group("policy", cls=Group)
def command() -> None:
    """What is wanted of the devices: policy.toml, and the findings accepted in waivers.toml."""


@command.command("check", examples=("policy check", "policy check --format json"))
@SITE
@format_option(lists=False)
def check(site_folder: Path, format_: str) -> None:
    """Is the policy sound, and does it name what there is?

    Tells every mistake at once: contradictions, and rules, devices, sheets and releases that do
    not exist, each with the nearest name that does. Waivers that are expired, and those that no
    device needs by its latest reading, are marked.
    """
    site = Site(site_folder)
    check_policy(site, releases_of(site), strict=True)
    mark_changes(site)
    marks = _marks(site)
    if format_ == "json":
        from ovek.render import json

        whole = json.policy(site_context(site), site.policy, site.waivers, marks)
        write_json(whole, format_, "waivers")
    else:
        from ovek.render.policy import policy

        write_lines(policy(site.policy, site.waivers, site.fleet, marks))


def _marks(site: Site) -> list[str | None]:
    """What is wrong with each waiver: it is over, or no device has what it is for; else None.

    Of what is for a device that was not read, nobody knows whether it is used.
    """
    if not site.waivers:
        return []
    from ovek.cli.audit import Auditing, unused
    from ovek.cli.fleetwide import each_part
    from ovek.cli.options import Devices
    from ovek.cli.shelf import shelf_facts

    now = datetime.now(UTC).replace(microsecond=0)
    devices = Devices(site, site.state(), releases=releases_of(site))
    used, idle = set[Waiver](), list[Waiver]()
    if devices.names:
        shelf = shelf_facts(site, devices.releases, devices.state.lines.keys())
        for part in each_part(devices, Auditing, now, shelf, frozenset({""}), False):
            used |= part.used
        idle = unused(devices, used)
    today = now.date()
    return [
        "expired" if one.until < today else "unused" if one in idle else None
        for one in site.waivers
    ]


def wants_of(site: Site) -> Wants:
    """What the policy of a site wants of its devices."""
    return Wants(site.policy, {one.name: one.role for one in site.fleet.device})


def contradiction(site: Site, error: ContradictionError) -> InputError:
    """The error that the policy says different things of one device."""
    do = "Say it once, or name the device by itself"
    return InputError(site.folder / "policy.toml", str(error), do, key="want")


def check_policy(site: Site, releases: ReleaseIndex, *, strict: bool = False) -> None:
    """Hold the policy and the waivers against what there is; raise ManyInputError.

    A target that no catalog lists costs only the devices that want it: it is a mistake where
    `strict`.
    """
    errors: list[InputError] = []
    found: dict[str, list[PolicyMistake]] = {}
    try:
        sheets = site.sheet_names
        found["policy.toml"] = [
            each
            for each in policy_mistakes(site.policy, site.fleet, sheets, releases, RULES)
            if strict or not each.unlisted
        ]
    except ManyInputError as several:
        errors += several.errors
    try:
        found["waivers.toml"] = list(waiver_mistakes(site.waivers, site.fleet, RULES))
    except ManyInputError as several:
        errors += several.errors
    for name, mistakes in found.items():
        file = site.folder / name
        errors += [InputError(file, one.met, one.do, key=one.key) for one in mistakes]
    if errors:
        raise ManyInputError(errors)
