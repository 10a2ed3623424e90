"""`ovek audit`: is the fleet fit to reload, and where not, why?"""

from typing import Any

import click

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
    help="Only this rule's findings, and the devices that have one (may be repeated).",
)
@click.option(
    "--group-by",
    type=OneOf(["device", "rule", "image"]),
    default="device",
    help="Put the findings together by this (default: device; for table and markdown).",
)
@click.option(
    "--rows",
    type=OneOf(["findings", "devices"]),
    default="findings",
    help="With --format csv: a row for each of these (default: findings).",
)
@MAY_DROP
@verbose_option()
@as_of_options
@on_option
@device_options("csv", "markdown", "junit")
@FAIL_ON
def command(
    only: tuple[str, ...], may_drop: tuple[Unlock, ...], selected: Selection, form: str, **look: Any
) -> None:
    """Is the fleet (or each DEVICE, a name or glob) fit to reload, and where not, why?

    Holds every image against what was released, walks the next start of every member, and says
    what is wrong, where it was seen and what to do: `ovek rules` lists all that is looked for.
    Exit code 1 where a finding that nobody has waived is at or above --fail-on.
    """
    view = View(**look)
    if view.group_by != "device" and form not in ("table", "markdown"):
        raise click.UsageError(f"--group-by is for table and markdown; {form} is by device")
    if view.rows != "findings" and form != "csv":
        raise click.UsageError(f"--rows is for csv; {form} has both")
    devices = selected.devices()
    shape = shape_for(FleetAudit, form, view)
    result = audit(devices, only=only, may_drop=may_drop, shape=shape)
    show(result, form, view)
    exit_code(_fails(result, view.fail_on), devices)


def _fails(result: FleetAudit, fail_on: str) -> bool:
    """Whether a device is a no-go, or has a finding at or above a severity."""
    no_go = result.summary.no_go > 0 and not result.only and reaches("critical", fail_on)
    found = (severity for severity in SEVEREST_FIRST if getattr(result.summary, severity))
    return no_go or any(reaches(severity, fail_on) for severity in found)
