"""Ovek audits the software images on network devices' flash. It reads; people act.

What a script may use is named in `__all__`, and loaded when it is first used: see docs/api.md.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ovek.app.asking import Site, answers, open_site
    from ovek.app.audit import audit
    from ovek.app.catalog import ImportTerms, import_catalog
    from ovek.app.cleanup import (
        CleanupRequest,
        confirm_cleanup,
        plan_cleanup,
        plan_fleet_cleanup,
    )
    from ovek.app.compare import compare, keep_baseline
    from ovek.app.copies import custody, locate
    from ovek.app.devices import Devices
    from ovek.app.errors import InputError, ManyInputError, UsageError
    from ovek.app.learning import learn_sheet
    from ovek.app.looking import HowToLook, inspect_shelves
    from ovek.app.remembering import History, open_history
    from ovek.app.report import report
    from ovek.app.rules import rules
    from ovek.app.runbooks import follow_runbooks, runbooks
    from ovek.app.runner import dask, here, processes
    from ovek.app.selection import Condition, select
    from ovek.app.survey import SurveyOptions, survey
    from ovek.app.walks import boot_walks
    from ovek.app.wanted import policy_check
    from ovek.model.answer import Answered
    from ovek.model.custody import Custody
    from ovek.model.finding import DeviceAudit
    from ovek.model.plan import CleanupPlan
    from ovek.model.results.audit import FleetAudit
    from ovek.model.results.cleanup import CleanupConfirmed, CleanupPlans, FleetCleanup
    from ovek.model.results.compared import FleetCompare
    from ovek.model.results.copies import FleetCustody, Located
    from ovek.model.results.report import FleetReport
    from ovek.model.results.runbooks import FleetRunbooks, RunbooksFollowed
    from ovek.model.results.shelves import ShelfLook
    from ovek.model.results.surveys import SurveyResult
    from ovek.model.results.walks import FleetWalks
    from ovek.model.runbook import Runbook
    from ovek.model.walk import DeviceWalk
    from ovek.model.whatif import WhatIf
    from ovek.model.where import Holding

__version__ = "0.1.0"
# Where each name is defined.
_HOME = {
    "app.asking": ("Site", "answers", "open_site"),
    "app.audit": ("audit",),
    "app.catalog": ("ImportTerms", "import_catalog"),
    "app.cleanup": ("CleanupRequest", "confirm_cleanup", "plan_cleanup", "plan_fleet_cleanup"),
    "app.compare": ("compare", "keep_baseline"),
    "app.copies": ("custody", "locate"),
    "app.devices": ("Devices",),
    "app.errors": ("InputError", "ManyInputError", "UsageError"),
    "app.learning": ("learn_sheet",),
    "app.looking": ("HowToLook", "inspect_shelves"),
    "app.remembering": ("History", "open_history"),
    "app.report": ("report",),
    "app.rules": ("rules",),
    "app.runbooks": ("follow_runbooks", "runbooks"),
    "app.runner": ("dask", "here", "processes"),
    "app.selection": ("Condition", "select"),
    "app.survey": ("SurveyOptions", "survey"),
    "app.walks": ("boot_walks",),
    "app.wanted": ("policy_check",),
    "model.answer": ("Answered",),
    "model.custody": ("Custody",),
    "model.finding": ("DeviceAudit",),
    "model.plan": ("CleanupPlan",),
    "model.results.audit": ("FleetAudit",),
    "model.results.cleanup": ("CleanupConfirmed", "CleanupPlans", "FleetCleanup"),
    "model.results.compared": ("FleetCompare",),
    "model.results.copies": ("FleetCustody", "Located"),
    "model.results.report": ("FleetReport",),
    "model.results.runbooks": ("FleetRunbooks", "RunbooksFollowed"),
    "model.results.shelves": ("ShelfLook",),
    "model.results.surveys": ("SurveyResult",),
    "model.results.walks": ("FleetWalks",),
    "model.runbook": ("Runbook",),
    "model.walk": ("DeviceWalk",),
    "model.whatif": ("WhatIf",),
    "model.where": ("Holding",),
}
_FROM = {name: module for module, names in _HOME.items() for name in names}
__all__ = [
    "Answered",
    "CleanupConfirmed",
    "CleanupPlan",
    "CleanupPlans",
    "CleanupRequest",
    "Condition",
    "Custody",
    "DeviceAudit",
    "DeviceWalk",
    "Devices",
    "FleetAudit",
    "FleetCleanup",
    "FleetCompare",
    "FleetCustody",
    "FleetReport",
    "FleetRunbooks",
    "FleetWalks",
    "History",
    "Holding",
    "HowToLook",
    "ImportTerms",
    "InputError",
    "Located",
    "ManyInputError",
    "Runbook",
    "RunbooksFollowed",
    "ShelfLook",
    "Site",
    "SurveyOptions",
    "SurveyResult",
    "UsageError",
    "WhatIf",
    "answers",
    "audit",
    "boot_walks",
    "compare",
    "confirm_cleanup",
    "custody",
    "dask",
    "follow_runbooks",
    "here",
    "import_catalog",
    "inspect_shelves",
    "keep_baseline",
    "learn_sheet",
    "locate",
    "open_history",
    "open_site",
    "plan_cleanup",
    "plan_fleet_cleanup",
    "policy_check",
    "processes",
    "report",
    "rules",
    "runbooks",
    "select",
    "survey",
]


def __getattr__(name: str) -> Any:
    if name not in _FROM:
        raise AttributeError(f"module 'ovek' has no attribute {name!r}")
    return getattr(import_module(f"ovek.{_FROM[name]}"), name)
