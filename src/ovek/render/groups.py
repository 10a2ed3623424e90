"""The findings of an audit put together by rule or by image, for a terminal.

Which devices have the same trouble? Which images are in trouble, and where?
"""

from collections.abc import Iterable, Iterator

from msgspec import Struct
from rich.text import Text

from ovek.model.finding import SEVEREST_FIRST, DeviceAudit, Finding, RuleCard
from ovek.model.place import parse_place
from ovek.model.results.audit import FleetAudit
from ovek.model.verdict import WORST_FIRST
from ovek.render.audit import by_device, heading
from ovek.render.lines import STYLES, Line, count, hanging, listed
from ovek.render.overview import overview
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible


class Group(Struct):
    """Findings that belong together: a title, words on them, and each with its device."""

    title: str
    severity: str
    told: list[tuple[str, str]]
    found: list[tuple[str, Finding]]

    @property
    def devices(self) -> list[str]:
        """The devices that have one of the findings, each once."""
        return list(dict.fromkeys(device for device, _ in self.found))


def groups(
    audits: Iterable[DeviceAudit], group_by: str, cards: Iterable[RuleCard]
) -> Iterator[Group]:
    """Put findings together by `rule` or `image`, the severest groups first."""
    put = _by_rule(audits, cards) if group_by == "rule" else _by_image(audits)
    yield from sorted(put, key=_weight)


def _weight(group: Group) -> tuple[int, int]:
    severest = [*SEVEREST_FIRST, "waived"]
    return severest.index(group.severity), -len(group.devices)


def _severest(found: list[tuple[str, Finding]]) -> str:
    open_ = {one.severity for _, one in found if one.waived is None}
    return next((severity for severity in SEVEREST_FIRST if severity in open_), "waived")


def _by_rule(audits: Iterable[DeviceAudit], cards: Iterable[RuleCard]) -> Iterator[Group]:
    known = {card.slug: card for card in cards}
    found: dict[str, list[tuple[str, Finding]]] = {}
    for audit in audits:
        for finding in audit.findings:
            found.setdefault(finding.rule, []).append((audit.device, finding))
    for slug, each in found.items():
        dos = {finding.words for _, finding in each}
        do = next(iter(dos)) if len(dos) == 1 else known[slug].remedy
        parts = [("why:", known[slug].reason), ("do:", do)]
        yield Group(title=slug, severity=_severest(each), told=parts, found=each)


def _by_image(audits: Iterable[DeviceAudit]) -> Iterator[Group]:
    found: dict[str, list[tuple[str, Finding]]] = {}
    verdicts: dict[str, dict[str, int]] = {}
    for audit in audits:
        named = {image.place: image.release or _name(image.place) for image in audit.images}
        for image in audit.images:
            counts = verdicts.setdefault(named[image.place], {})
            counts[image.verdict] = counts.get(image.verdict, 0) + 1
        for finding in audit.findings:
            if finding.place is not None and (
                finding.place in named or _name(finding.place) in verdicts
            ):
                name = named.get(finding.place) or _name(finding.place)
                found.setdefault(name, []).append((audit.device, finding))
    for name, each in found.items():
        counts = verdicts.get(name, {})
        copies = ", ".join(
            f"{counts[finding]} {finding}" for finding in reversed(WORST_FIRST) if finding in counts
        )
        told = [("copies:", copies)] if copies else []
        yield Group(title=name, severity=_severest(each), told=told, found=each)


def _name(place: str) -> str:
    try:
        return parse_place(place).name
    except ValueError:
        return place


def audit(result: FleetAudit, view: View) -> Iterator[Line]:
    """Go through the lines: device by device, counted, or put together by rule or image."""
    if view.group_by == "overview":
        return overview(result, view)
    return by_device(result, view) if view.group_by == "device" else grouped(result, view)


def grouped(result: FleetAudit, view: View) -> Iterator[Line]:
    """Go through the lines: the answer, each group with its devices, then who was not read."""
    yield from heading(result, view)
    put = list(groups(result.devices, view.group_by, result.cards))
    if not put:
        yield "No findings."
    for group in put:
        devices = group.devices
        yield ""
        title = Text.assemble((visible(group.title), "bold"), "  ")
        title.append(group.severity, STYLES.get(group.severity, "dim"))
        yield title.append(
            f"  {count(len(group.found), 'finding')} on {count(len(devices), 'device')}"
        )
        for head, text in group.told:
            yield from hanging(f"  {head}", text, indent=10)
        yield from hanging("  where:", listed([visible(name) for name in devices], 40), indent=10)
        for device, one in group.found:
            place = f" {visible(one.place)}" if one.place else ""
            waived = f" (waived {one.waived})" if one.waived else ""
            rule = f"{one.rule}: " if group.title != one.rule else ""
            yield from hanging(
                f"    {visible(device)}{place}: ", f"{rule}{one.seen}{waived}", indent=8
            )
    yield from Unreads(result.not_read, result.as_of).lines()
