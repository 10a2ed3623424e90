"""An audit for a monitoring system, in the text form of the open standard OpenMetrics 1.0."""

from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import datetime

from ovek.model.finding import DeviceAudit, uses_of
from ovek.model.results.audit import FleetAudit
from ovek.render.view import View
from ovek.render.visible import visible

# Labels of one sample, in the order in which they are written.
Labels = tuple[tuple[str, str], ...]
_DEVICES = "Devices by answer: go, no-go or unclear."
_BOOT = "Devices by the state of the next boot, or not read."
_FINDINGS = "Findings by rule and severity; waived ones have the severity waived."
_ADVISORIES = "Devices that an advisory affects, by what of them it is."
_NOT_READ = "Devices that the last survey could not read, or that were never read."
_OLDEST = "The age of the oldest reading of a device."
_NEWEST = "The age of the latest reading of a device."
_TIME = "When the audit was made."


def audit(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Go through the lines: counts by network, site and role, and ages in seconds."""
    count = _Counts(result.site)
    for device in result.devices:
        count.add(device)
    for unread in result.not_read:
        where = count.place(unread.site, unread.role)
        count.not_read[where] += 1
        if unread.last_read is None:
            count.devices[(*where, ("answer", "unclear"))] += 1
            count.boots[(*where, ("state", "not read"))] += 1
    yield from _family("ovek_devices", _DEVICES, count.devices)
    yield from _family("ovek_next_boot_devices", _BOOT, count.boots)
    yield from _family("ovek_findings", _FINDINGS, count.findings)
    yield from _family("ovek_advisory_devices", _ADVISORIES, count.advisories)
    yield from _family("ovek_devices_not_read", _NOT_READ, count.not_read)
    for name, words, times in (
        ("ovek_oldest_reading_age_seconds", _OLDEST, count.oldest),
        ("ovek_latest_reading_age_seconds", _NEWEST, count.newest),
    ):
        ages = {where: _age(result.as_of, taken) for where, taken in times.items()}
        yield from _family(name, words, ages, "seconds")
    now: dict[Labels, int] = {(("network", result.site),): int(result.as_of.timestamp())}
    yield from _family("ovek_audit_timestamp_seconds", _TIME, now, "seconds")
    yield b"# EOF\n"


class _Counts:
    """What is counted of devices, each by its labels."""

    def __init__(self, network: str) -> None:
        self._network = network
        self.devices, self.boots = Counter[Labels](), Counter[Labels]()
        self.findings, self.not_read = Counter[Labels](), Counter[Labels]()
        self.advisories = Counter[Labels]()
        self.oldest, self.newest = dict[Labels, datetime](), dict[Labels, datetime]()

    def place(self, site: str | None, role: str | None) -> Labels:
        """Where a device stands, and what it does there; empty where that is unknown."""
        return (("network", self._network), ("site", site or ""), ("role", role or ""))

    def add(self, audit: DeviceAudit) -> None:
        """Count one device in."""
        where = self.place(audit.site, audit.role)
        self.devices[(*where, ("answer", audit.answer))] += 1
        state = audit.next_boot if audit.not_read is None else "not read"
        self.boots[(*where, ("state", state))] += 1
        for finding in audit.findings:
            severity = finding.severity if finding.waived is None else "waived"
            self.findings[(*where, ("rule", finding.rule), ("severity", severity))] += 1
        for advisory, use in sorted(uses_of(audit.findings)):
            self.advisories[(*where, ("advisory", advisory), ("use", use))] += 1
        if (taken := audit.taken_at) is not None:
            self.oldest[where] = min(taken, self.oldest.get(where, taken))
            self.newest[where] = max(taken, self.newest.get(where, taken))


def _age(now: datetime, taken: datetime) -> int:
    """Whole seconds; a clock that was set back makes no age below nothing."""
    return max(0, int((now - taken).total_seconds()))


def _family(name: str, told: str, samples: Mapping[Labels, int], unit: str = "") -> Iterator[bytes]:
    """Go through the lines of one metric, its samples in the order of their labels."""
    head = [f"# TYPE {name} gauge", *([f"# UNIT {name} {unit}"] if unit else ())]
    lines = [*head, f"# HELP {name} {_escaped(told)}"]
    for labels, value in sorted(samples.items()):
        inside = ",".join(f'{key}="{_escaped(text)}"' for key, text in labels)
        lines.append(f"{name}{{{inside}}} {value}")
    yield ("\n".join(lines) + "\n").encode()


def _escaped(text: str) -> str:
    """A text as the standard has it between quotes; what nobody could see is made visible first."""
    return visible(text).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
