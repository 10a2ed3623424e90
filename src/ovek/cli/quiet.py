"""Whether only results and errors are written: what -q says."""

_QUIET = [False]


def be_quiet(quiet: bool) -> None:
    """Write results and errors only from now on, or all again."""
    _QUIET[:] = [quiet]


def is_quiet() -> bool:
    """Whether only results and errors are written."""
    return _QUIET[-1]
