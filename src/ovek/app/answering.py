"""The answer for devices: `go`, `no-go` or `unclear`, as every command about a fleet begins."""

from collections.abc import Iterable
from datetime import datetime
from functools import cached_property

from msgspec.structs import replace

from ovek.app.devices import Devices
from ovek.app.policy import contradiction, wants_of
from ovek.app.shortcuts import takes_shortcuts
from ovek.app.work import Part, Work
from ovek.engine.answer import unread
from ovek.engine.audit import Terms, answer_of
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import NO_RATES, Rates
from ovek.engine.rules import Subject, subject_of
from ovek.engine.shapes import Shapes
from ovek.engine.times import times_of
from ovek.engine.verdicts import JudgedDevice
from ovek.engine.wanted import ContradictionError, Wants
from ovek.files.state import digest_rates
from ovek.model.answer import Answered
from ovek.model.plan import Unlock
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device


class Answering:
    """Finds the answer for the devices of a site, one by one."""

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        plans: bool = False,
        may_drop: frozenset[Unlock] = frozenset(),
    ) -> None:
        self.devices, self.unread = devices, devices.stale
        self.terms = Terms(
            now=now, shelf=shelf, waivers=devices.site.waivers, plans=plans, may_drop=may_drop
        )
        self.wants = wants_of(devices)
        self.shapes = Shapes(plans=plans) if takes_shortcuts() else None

    def terms_of(self, name: str) -> Terms:
        """What one device is audited by."""
        return replace(
            self.terms,
            expected=self.devices.expected(name),
            not_read=self.unread.get(name),
            rates=self.rates(name) if self.terms.plans else NO_RATES,
        )

    def subject(self, judged: JudgedDevice, wants: Wants | None = None) -> Subject:
        """A device as rules and plans look at it, by what is wanted of it. Raises InputError."""
        wants = wants or self.wants
        try:
            wanted = wants.of(judged)
        except ContradictionError as error:
            raise contradiction(self.devices.site, error) from None
        device = judged.device
        return subject_of(
            judged,
            walk_device(judged),
            wants.policy,
            wanted,
            times_of(device, self.terms.now),
            self.terms.shelf,
            self.devices.expected(device.device),
        )

    def rates(self, name: str) -> Rates:
        """How fast the way to a device is, and the device itself."""
        link = self.devices.link(name)
        return Rates(link[0] if link is not None else None, self._measured.get(name))

    @cached_property
    def _measured(self) -> dict[str, int]:
        return digest_rates(self.devices.site.folder / "snapshots")

    def terms_at(self, device: Device) -> Terms:
        """What one device is audited by at the time when it was read."""
        return replace(self.terms_of(device.device), now=device.taken_at, not_read=None)

    def answer(self, judged: JudgedDevice) -> Answered:
        """The answer for one device. Raises InputError."""
        try:
            return answer_of(
                judged,
                self.wants,
                self.terms_of(judged.device.device),
                None if self.terms.plans else self.shapes,
            )
        except ContradictionError as error:
            raise contradiction(self.devices.site, error) from None

    def at(self, judged: JudgedDevice) -> Answered:
        """The answer for a device as it was, at the time at which it was read."""
        taken = judged.device.taken_at
        now = min(taken, self.terms.now)
        terms = replace(self.terms_of(judged.device.device), now=now, not_read=None)
        try:
            return answer_of(judged, self.wants, terms)
        except ContradictionError as error:
            raise contradiction(self.devices.site, error) from None


def _answers(devices: Devices, now: datetime, shelf: ShelfFacts | None) -> Part[list[Answered]]:
    answering = Answering(devices, now, shelf)
    return lambda lines: [answering.answer(one.judged()) for one in lines]


# The answers for the devices of a site, at a time and by what lies on its shelf.
ANSWERS = Work(_answers, list[Answered])


def with_unread(devices: Devices, answers: Iterable[Answered]) -> list[Answered]:
    """These answers, and those for the devices of which nothing is known."""
    return [*answers, *(unread(one) for one in devices.not_read if one.last_read is None)]
