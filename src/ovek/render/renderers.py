"""Which renderer shows which result in which form: the one table.

A renderer is a function of a module here, of a result and a view. Those of the forms `table` and
`text` go through the lines of a terminal, all others through bytes. Each is imported when it is
used. Names of forms are those of `--format`, and of what a figure is drawn as.
"""

from collections.abc import Iterable, Mapping
from importlib import import_module
from typing import Any

from ovek.render.view import View

IN_TERMINAL = ("table", "text")
_JSON = {"json": "json.whole", "jsonl": "json.lines"}


def _figure(module: str) -> dict[str, str]:
    return {
        "text": f"charts.{module}.text",
        **dict.fromkeys(("png", "svg"), f"charts.{module}.draw"),
    }


RENDERERS: Mapping[str, Mapping[str, str]] = {
    "FleetAudit": {
        "table": "groups.audit",
        "json": "json.audit",
        "jsonl": "json.audit_lines",
        "csv": "csv.audit",
        "markdown": "markdown.audit",
        "junit": "junit.audit",
        "openmetrics": "openmetrics.audit",
    },
    "FleetWalks": {"table": "bootwalk.bootwalk", "json": "json.walks", "jsonl": "json.walk_lines"},
    "FleetRunbooks": {
        "table": "runbook.runbooks",
        **_JSON,
        "csv": "csv.runbooks",
        "markdown": "runbook.checklist",
        "ical": "calendar.calendar",
        **_figure("waves"),
    },
    "RunbooksFollowed": {"table": "runbook.followed", **_JSON},
    "FleetCompare": {"table": "compare.compare", **_JSON},
    "KeptBaseline": {"table": "compare.kept", **_JSON},
    "CleanupPlans": {
        "table": "cleanup.cleanup",
        **_JSON,
        "markdown": "checklist.checklist",
        **dict.fromkeys(("png", "svg"), "charts.plan.draw"),
    },
    "FleetCleanup": {
        "table": "cleanup.fleet",
        "json": "json.cleanup",
        "jsonl": "json.cleanup_lines",
        **dict.fromkeys(("png", "svg"), "charts.plan.draw"),
    },
    "CleanupConfirmed": {"table": "cleanup.confirmed", **_JSON},
    "Located": {"table": "where.where", **_JSON, "csv": "where.as_csv"},
    "FleetCustody": {"table": "custody.custody", **_JSON},
    "FleetReport": {"table": "report.summary", "markdown": "report.short", "html": "report.whole"},
    "ShelfLook": {"table": "shelf.shelves", **_JSON},
    "Expectation": {"table": "shelf.expectation"},
    "Releases": {"table": "catalog.listing", **_JSON},
    "WholeReleases": {"table": "catalog.whole", **_JSON},
    "CatalogCheck": {"table": "catalog.check", **_JSON},
    "UpgradePath": {"table": "catalog.upgrade_path", **_JSON},
    "PickedFor": {"table": "catalog.pick", **_JSON},
    "Understood": {"table": "catalog.understood"},
    "KeyList": {"table": "keys.listing", **_JSON},
    "AdvisoryList": {"table": "advisory.listing", **_JSON},
    "ImportedAdvisories": {"table": "advisory.imported", **_JSON},
    "HistoryAdded": {"table": "history.added", **_JSON},
    "DeviceHistory": {"table": "history.life", **_JSON, "csv": "history.life_csv"},
    "ImageHistory": {"table": "history.image", **_JSON, "csv": "history.copies_csv"},
    "FindingHistory": {"table": "history.finding", **_JSON, "csv": "history.findings_csv"},
    "Trend": {"table": "history.trend", **_JSON, "csv": "history.days_csv", **_figure("trend")},
    "Purged": {"table": "history.purged"},
    "Rules": {"table": "rules.rules", **_JSON},
    "CacheContent": {"table": "cached.cache", **_JSON},
    "Settings": {"table": "settings.settings", **_JSON},
    "PolicyCheck": {"table": "policy.policy", **_JSON},
    "SheetFields": {"table": "fields.fields", **_JSON},
    "SheetCheck": {"table": "sheet.check"},
    "SheetTrial": {"table": "sheet.trial", **_JSON},
    "Learned": {"table": "learned.learned", **_JSON},
    "SurveyResult": {"table": "survey.survey", **_JSON},
    "StartedSite": {"table": "started.started"},
    "Pruned": {"table": "survey.pruned", **_JSON},
    "FlashFigure": _figure("flash"),
    "VersionsFigure": _figure("versions"),
    "VerdictsFigure": _figure("verdicts"),
    "WalkFigure": {"text": "bootwalk.paths", **dict.fromkeys(("png", "svg"), "charts.walk.draw")},
}


# What is made of each value of a result at once, where no more of it is shown.
SHAPES = {
    ("FleetAudit", "table", "device"): "audit.RowMaker",
    ("FleetAudit", "table", "overview"): "overview.OverviewMaker",
    ("FleetCleanup", "table", "device"): "cleanup.FleetRows",
}


def shape_for(kind: type[object], form: str, view: View) -> Any:
    """What makes rows of the values of a kind of result, so that no more is kept; None: nothing."""
    found = SHAPES.get((kind.__name__, form, view.group_by))
    return _named(found) if found is not None else None


def _named(path: str) -> Any:
    """A name of a module here."""
    module, _, name = path.rpartition(".")
    return getattr(import_module(f"ovek.render.{module}"), name)


def has_form(result: object, form: str) -> bool:
    """Whether a result is shown in a form here; else an installed package may."""
    return form in RENDERERS[type(result).__name__]


def rendered(result: object, form: str, view: View) -> Iterable[Any]:
    """Go through a result in a form: lines of a terminal, or bytes. Raises NoExtraError."""
    renderer = _named(RENDERERS[type(result).__name__][form])
    shown: Iterable[Any] = renderer(result, view, form) if form in ("png", "svg") else (
        renderer(result, view)
    )  # fmt: skip
    return shown
