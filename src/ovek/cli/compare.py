"""`ovek compare`: what changed between two states of the fleet?"""

import click

from ovek.app.compare import compare, keep_baseline, states
from ovek.cli.command import Command
from ovek.cli.completing import snapshots
from ovek.cli.options import exit_code, format_option, verbose_option
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, selecting
from ovek.cli.show import show
from ovek.render.view import View


@click.command(
    "compare",
    cls=Command,
    examples=(
        "compare before-7.4.2 'arle-*' --expect target",
        "compare before-7.4.2 --where site=Brackness --format json",
    ),
)
@click.argument("old", required=False, shell_complete=snapshots)
@click.option(
    "--to",
    "new",
    metavar="SNAPSHOT",
    shell_complete=snapshots,
    help="The later snapshot (default: the latest reading of each device).",
)
@click.option(
    "--expect",
    metavar="VERSION",
    help="The version that every member should run and boot next; or target, or recommended.",
)
@click.option(
    "--baseline",
    metavar="NAME",
    help="Save a snapshot (OLD; default: the latest readings) under this name; compare nothing.",
)
@verbose_option()
@selecting
@format_option()
def command(
    old: str | None,
    new: str | None,
    expect: str | None,
    baseline: str | None,
    verbose: bool,
    selected: Selection,
    form: str,
) -> None:
    """Show what changed since OLD, on each DEVICE (a name or glob; default: all).

    OLD is a snapshot, or a baseline saved with --baseline. Regressions come first (a worse next
    boot, an image that is no longer proven), then which devices are on target. --expect VERSION
    checks that every member runs VERSION and boots it next; VERSION may be target or recommended:
    each device's own. Exit code 1 if the check fails or is unknown, if an image is no longer
    proven, or if a device would no longer boot.
    """
    if baseline is not None:
        if new is not None or expect is not None or not selected.everything:
            raise click.UsageError(
                "--baseline only saves a snapshot; do not combine it with --to or --expect"
            )
        show(keep_baseline(selected.site, baseline, old), form)
        return
    if old is None:
        raise click.UsageError(
            "name the earlier snapshot: ovek compare OLD [DEVICE]... (see "
            "snapshots/ and baselines/)"
        )
    before, after = states(selected.site, old, new, selected.names, selected.where, bar=bytes_bar)
    result = compare(before, after, expect=expect)
    show(result, form, View(verbose=verbose))
    exit_code(result.worse, after)
