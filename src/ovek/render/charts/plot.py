"""Matplotlib, which is an extra: imported when a figure is drawn, and only here."""

import io
from typing import Any

from ovek.render.extra import NoExtraError


def pyplot() -> Any:
    """What draws: without a display, names as they are. Raises NoExtraError."""
    try:
        import matplotlib
    except ImportError:
        raise NoExtraError("figures", "figures need the extra `figures`") from None
    matplotlib.use("Agg")
    matplotlib.rcParams["text.parse_math"] = False  # a dollar in a name is a dollar
    from matplotlib import pyplot as drawing

    return drawing


def saved(figure: Any, kind: str, **more: Any) -> bytes:
    """A figure as `png` or `svg`; it is closed, whatever happens."""
    drawn = io.BytesIO()
    try:
        figure.savefig(drawn, format=kind, **more)
    finally:
        pyplot().close(figure)
    return drawn.getvalue()
