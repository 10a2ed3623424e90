"""`ovek audit`: is the fleet fit to reload, and where not, why?"""

from typing import Any

import click
from msgspec.structs import replace

from ovek.app.audit import audit
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command, OneOf
from ovek.cli.completing import rules
from ovek.cli.options import FAIL_ON, MAY_DROP, exit_code, verbose_option
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.show import show
from ovek.model.finding import SEVEREST_FIRST, reaches
from ovek.model.plan import Unlock
from ovek.model.results.audit import FleetAudit
from ovek.render.renderers import shape_for
from ovek.render.view import View

MANY = 100  # devices of which more are counted, not listed


@click.command(
    "audit",
    cls=Command,
    examples=('audit --where site="Port Arle"', "audit --only boot-target-missing --format csv"),
)
@click.option(
    "--only",
    multiple=True,
    metavar="RULE",
    shell_complete=rules,
    help="Show only findings of this rule, and the devices that have them (repeatable).",
)
@click.option(
    "--group-by",
    type=OneOf(["device", "rule", "image"]),
    help="Group findings by device, rule or image (table and markdown only; default: device; more "
    f"than {MANY} devices are counted, unless -v is given).",
)
@click.option(
    "--rows",
    type=OneOf(["findings", "devices"]),
    default="findings",
    help="With --format csv: one row per finding or per device (default: findings).",
)
@MAY_DROP
@verbose_option()
@as_of_options
@on_option
@device_options("csv", "markdown", "junit", "openmetrics")
@FAIL_ON
def command(
    only: tuple[str, ...],
    may_drop: tuple[Unlock, ...],
    selected: Selection,
    form: str,
    group_by: str | None,
    **look: Any,
) -> None:
    """Can each DEVICE (a name or glob; default: all) be reloaded safely, and if not, why?

    Checks every image against the published releases, simulates the next boot of every member,
    and lists findings with the fix. `ovek rules` lists the checks. The answer of a device is go,
    no-go or unclear. Exit code 1 if a finding that is not waived is at or above --fail-on.
    """
    view = View(**look, group_by=group_by or "device")
    if view.group_by != "device" and form not in ("table", "markdown"):
        raise click.UsageError("--group-by works only with --format table or markdown")
    if view.rows != "findings" and form != "csv":
        raise click.UsageError("--rows needs --format csv")
    devices = selected.devices()
    if group_by is None and form == "table" and not view.verbose and len(devices.names) > MANY:
        view = replace(view, group_by="overview")
    shape = shape_for(FleetAudit, form, view)
    result = audit(devices, only=only, may_drop=may_drop, shape=shape)
    show(result, form, view)
    exit_code(_fails(result, view.fail_on), devices)


def _fails(result: FleetAudit, fail_on: str) -> bool:
    """Whether a device is a no-go, or has a finding at or above a severity."""
    no_go = result.summary.no_go > 0 and not result.only and reaches("critical", fail_on)
    found = (severity for severity in SEVEREST_FIRST if getattr(result.summary, severity))
    return no_go or any(reaches(severity, fail_on) for severity in found)
