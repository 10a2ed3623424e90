"""The audit of very many devices on one screen: what there is, counted, and where to look next."""

from collections import Counter
from collections.abc import Iterator

import msgspec
from msgspec import Struct
from rich.text import Text

from ovek.model.finding import SEVEREST_FIRST, DeviceAudit
from ovek.model.results.audit import FleetAudit
from ovek.render.audit import heading
from ovek.render.lines import Columns, Line, Toned, count, hanging
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible

_HELD = 3  # devices of each answer that are named
_NAMED = 3  # devices of each rule that are named
_RULES = ("SEVERITY", "RULE", "DEVICES", "FINDINGS", "SUCH AS")
# What the first step of a plan does, by its kind.
_STEPS = {
    "check-digest": "Check a digest on the device",
    "back-up": "Back up a file",
    "delete": "Delete a file",
    "copy": "Copy an image to the device",
    "write-bank": "Write a bank",
    "copy-bank": "Copy a bank to the other",
    "load-component": "Load a component",
    "set-component": "Set a component",
    "set-order": "Set the boot order",
    "set-mode": "Set the boot mode",
    "set-default": "Set the default boot entry",
    "set-once": "Set the once entry",
    "heed-config": "Let the next boot read the saved configuration",
    "save": "Save the boot settings",
    "commit": "Commit the running image",
    "reload": "Reload",
    "boot-by-hand": "Boot by hand from the loader",
}
_NO_STEP = "No step of a plan: see what each finding says"


class Overviewed(Struct, frozen=True):
    """What an overview counts of one device: rules with severities, and its first step."""

    device: str
    findings: tuple[tuple[str, str], ...]
    first_step: str | None


class OverviewMaker:
    """Makes what an overview counts, device by device, wherever that is."""

    def __init__(self) -> None:
        self.widths: list[int] = []

    def row(self, audit: DeviceAudit) -> Overviewed:
        """What is counted of one device."""
        rules = tuple(
            (one.rule, one.severity if one.waived is None else "waived") for one in audit.findings
        )
        step = audit.steps[0].change if audit.steps else None
        return Overviewed(audit.device, rules, step)


def overview(result: FleetAudit, view: View) -> Iterator[Line]:
    """Go through the lines; what is shaped are `Overviewed`, as an OverviewMaker makes them."""
    yield from heading(result, view, _HELD)
    findings, devices = Counter[tuple[str, str]](), Counter[tuple[str, str]]()
    steps = Counter[str]()
    names: dict[tuple[str, str], list[str]] = {}
    assert result.shaped is not None
    for row in map(msgspec.json.Decoder(Overviewed).decode, result.shaped.lines()):
        findings.update(row.findings)
        for key in set(row.findings):
            devices[key] += 1
            if len(rule_names := names.setdefault(key, [])) < _NAMED:
                rule_names.append(row.device)
        if any(severity != "waived" for _, severity in row.findings):
            steps[row.first_step or ""] += 1
    if findings:
        yield from _by_rule(findings, devices, names)
        yield from _by_step(steps)
    yield from _unread(result)
    yield ""
    more = "every device and finding: -v; one rule: --only RULE; some devices: DEVICE… or --where "
    yield from hanging("More: ", f"{more}answer=no-go; in groups: --group-by rule", indent=6)


def _by_rule(
    findings: Counter[tuple[str, str]],
    devices: Counter[tuple[str, str]],
    names: dict[tuple[str, str], list[str]],
) -> Iterator[Line]:
    order = [*SEVEREST_FIRST, "waived"]
    table = Columns(_RULES, right=(2, 3), whole=(0, 1), least=(4,))
    rows = [
        (
            Toned(severity),
            rule,
            f"{devices[rule, severity]:,}",
            f"{findings[rule, severity]:,}",
            ", ".join(map(visible, names[rule, severity])),
        )
        for rule, severity in sorted(
            findings, key=lambda key: (order.index(key[1]), -devices[key], key[0])
        )
    ]
    for row in rows:
        table.measure(row)
    table.fit()
    yield from ("", Text("FINDINGS BY RULE", "bold"), table.head())
    for row in rows:
        yield from table.rows(row)


def _by_step(steps: Counter[str]) -> Iterator[Line]:
    """What is to be done first, and on how many devices."""
    if not steps:
        return
    table = Columns(("DEVICES", "FIRST STEP"), right=(0,))
    rows = [
        (f"{number:,}", _STEPS.get(kind, kind or _NO_STEP))
        for kind, number in sorted(steps.items(), key=lambda item: (item[0] == "", -item[1]))
    ]
    for row in rows:
        table.measure(row)
    table.fit()
    yield from ("", Text("WHAT IS TO BE DONE", "bold"), table.head())
    for row in rows:
        yield from table.rows(row)


def _unread(result: FleetAudit) -> Iterator[Line]:
    """The devices that were not read: of many, how many."""
    if len(result.not_read) > _HELD:
        yield ""
        yield f"{count(len(result.not_read), 'device')} not read: ovek survey, and -v says why"
        return
    yield from Unreads(result.not_read, result.as_of).lines()
