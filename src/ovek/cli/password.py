"""--ask-password: a person types the password, unseen."""

import sys
from collections.abc import Callable
from typing import Any

import click

from ovek.model.fleet import PASSWORD


def ask_password_option(does: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Add --ask-password; it comes as what asks for it, or None."""
    return click.option(
        "--ask-password", is_flag=True, callback=lambda ctx, param, value: _ask if value else None,
        help=does,
    )  # fmt: skip


def _ask() -> str:
    """Ask for the password; raise UsageError where nobody can be asked."""
    try:
        if not (sys.stdin.isatty() or sys.stderr.isatty()):
            raise click.Abort
        typed: str = click.prompt("Password", hide_input=True, err=True)
    except click.Abort:
        raise click.UsageError(
            f"cannot ask for the password: no terminal. Set {PASSWORD} instead"
        ) from None
    return typed
