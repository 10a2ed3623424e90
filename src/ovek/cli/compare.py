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
    help="The later snapshot (default: the newest line of each device).",
)
@click.option(
    "--expect",
    metavar="VERSION",
    help="The version that every member should run now; or target, or recommended.",
)
@click.option(
    "--baseline",
    metavar="NAME",
    help="Keep a snapshot (OLD, default: the newest line of each device) under this name instead.",
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
    """What changed from OLD to now, on the fleet or each DEVICE (a name or glob)?

    OLD is a snapshot, or a name that --baseline keeps. First comes what nobody asked for: a start
    that got worse, an image that is no longer proven; then what is done by each device's own
    target. With --expect: did the upgrade do what it was meant to, on every member? VERSION may be
    target or recommended: each device's own. Exit code 1 where it did not or that is not known,
    where an image is no longer proven, or a device would no longer start.
    """
    if baseline is not None:
        if new is not None or expect is not None or not selected.everything:
            raise click.UsageError("--baseline keeps one snapshot whole; it compares nothing")
        show(keep_baseline(selected.site, baseline, old), form)
        return
    if old is None:
        raise click.UsageError("say with what to compare: ovek compare OLD [DEVICE]...")
    before, after = states(selected.site, old, new, selected.names, selected.where, bar=bytes_bar)
    result = compare(before, after, expect=expect)
    show(result, form, View(verbose=verbose))
    exit_code(result.worse, after)
