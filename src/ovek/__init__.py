"""Ovek audits the software images on network devices' flash. It reads; people act.

What a script may use is named in `__all__`, and loaded when it is first used: see docs/api.md.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ovek.app.asking import answers, audit, boot_walks, open_site, select
    from ovek.app.copies import custody, locate
    from ovek.app.devices import Devices
    from ovek.files.errors import InputError, ManyInputError
    from ovek.files.site import Site
    from ovek.model.answer import Answered
    from ovek.model.custody import Custody
    from ovek.model.finding import DeviceAudit
    from ovek.model.walk import DeviceWalk
    from ovek.model.where import Holding

__version__ = "0.1.0"
__all__ = [
    "Answered",
    "Custody",
    "DeviceAudit",
    "DeviceWalk",
    "Devices",
    "Holding",
    "InputError",
    "ManyInputError",
    "Site",
    "answers",
    "audit",
    "boot_walks",
    "custody",
    "locate",
    "open_site",
    "select",
]
_FROM = {
    "Answered": "model.answer",
    "Custody": "model.custody",
    "DeviceAudit": "model.finding",
    "DeviceWalk": "model.walk",
    "Devices": "app.devices",
    "Holding": "model.where",
    "InputError": "files.errors",
    "ManyInputError": "files.errors",
    "Site": "files.site",
    **dict.fromkeys(("custody", "locate"), "app.copies"),
    **dict.fromkeys(("answers", "audit", "boot_walks", "open_site", "select"), "app.asking"),
}


def __getattr__(name: str) -> Any:
    if name not in _FROM:
        raise AttributeError(f"module 'ovek' has no attribute {name!r}")
    return getattr(import_module(f"ovek.{_FROM[name]}"), name)
