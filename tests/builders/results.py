"""Results as a use case gives them, of a site that does not matter."""

from builders import NOW
from ovek.model.results.runbooks import FleetRunbooks
from ovek.render.view import View

VIEW, ALL = View(), View(verbose=True)


def result(kind, **fields):
    """A result of a site, with these fields."""
    return kind(**{"site": "Test", "as_of": NOW, **fields})


def reloads(planned, caption="Test", **fields):
    """Runbooks of which only the waves matter."""
    waves = {"waves": planned.waves, "misfits": planned.misfits, "caption": caption}
    return result(FleetRunbooks, devices=(), answers=None, links=(), **waves, **fields)
