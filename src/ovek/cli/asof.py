"""Which time is asked about: --as-of, and by what was known when."""

from collections.abc import Callable
from datetime import UTC, datetime, time
from typing import Any

import click

from ovek.cli.command import OneOf


def as_of_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add --as-of and --knowing."""
    as_of = click.option(
        "--as-of",
        metavar="DATE",
        callback=_date,
        help="Show the state at this time (UTC): 2026-03-01 (end of that day) or 2026-03-01T12:00.",
    )
    knowing = click.option(
        "--knowing",
        type=OneOf(["then", "now"]),
        default="then",
        help="With --as-of: judge by the catalog, policy and waivers of that time (then) or "
        "of today "
        "(now). Default: then.",
    )
    return as_of(knowing(function))


def _date(ctx: click.Context, param: click.Parameter, value: str | None) -> datetime | None:
    return None if value is None else moment(value)


def moment(text: str) -> datetime:
    """Read a day (its end counts) or a time, in UTC where no zone is told; raise BadParameter.

    >>> str(moment("2026-03-01"))
    '2026-03-01 23:59:59+00:00'
    """
    now = datetime.now(UTC).replace(microsecond=0)
    try:
        if len(text) == len("2026-03-01"):
            day = datetime.strptime(text, "%Y-%m-%d").date()
            ends = datetime.combine(day, time(23, 59, 59), UTC)
            found = now if day == now.date() else ends  # today has not ended yet
        else:
            told = datetime.fromisoformat(text)
            found = told if told.tzinfo is not None else told.replace(tzinfo=UTC)
    except ValueError:
        met = f"{text!r} is not a date; use 2026-03-01 or 2026-03-01T12:00 (UTC)"
        raise click.BadParameter(met) from None
    if found > now:
        raise click.BadParameter(f"{text} is in the future; use today or an earlier date")
    return found
