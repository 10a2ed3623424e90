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
        help="As it was at the end of this day, or at this time (2026-03-01, 2026-03-01T12:00).",
    )
    knowing = click.option(
        "--knowing",
        type=OneOf(["then", "now"]),
        default="then",
        help="With --as-of: by the catalog, policy and waivers of then, or of now (default: then).",
    )
    return as_of(knowing(function))


def _date(ctx: click.Context, param: click.Parameter, value: str | None) -> datetime | None:
    return None if value is None else moment(value)


def moment(text: str) -> datetime:
    """Read a day (its end counts) or a time, in UTC where no zone is told; raise BadParameter.

    >>> str(moment("2026-03-01"))
    '2026-03-01 23:59:59+00:00'
    """
    try:
        if len(text) == 10:
            day = datetime.strptime(text, "%Y-%m-%d").date()
            found = datetime.combine(day, time(23, 59, 59), UTC)
            return (
                min(found, datetime.now(UTC).replace(microsecond=0))
                if (day == datetime.now(UTC).date())
                else _past(found, text)
            )
        found = datetime.fromisoformat(text)
        return _past(found if found.tzinfo is not None else found.replace(tzinfo=UTC), text)
    except ValueError:
        met = f"{text!r} is no date; write it like 2026-03-01 or 2026-03-01T12:00 (UTC)"
        raise click.BadParameter(met) from None


def _past(at: datetime, text: str) -> datetime:
    if at > datetime.now(UTC):
        raise click.BadParameter(f"{text} is in the future; name a day that has been")
    return at
