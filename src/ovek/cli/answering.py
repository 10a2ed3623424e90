"""The answer for devices: `go`, `no-go` or `unclear`, as every command about a fleet begins."""

from collections.abc import Iterable
from datetime import datetime

from msgspec.structs import replace

from ovek.cli.options import Devices
from ovek.cli.policy import contradiction, wants_of
from ovek.cli.work import Work
from ovek.engine.answer import unread
from ovek.engine.audit import Terms, answer_of
from ovek.engine.verdicts import Judge, JudgedDevice, judge_device
from ovek.engine.wanted import ContradictionError
from ovek.model.answer import Answered, Tally
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device


class Answering(Work[list[Answered]]):
    """Finds the answer for the devices of a site, one by one."""

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        advise: bool | frozenset[str] = False,
    ) -> None:
        self.devices, self.unread = devices, devices.stale
        self.terms = Terms(now=now, shelf=shelf, waivers=devices.site.waivers, advise=advise)
        self.wants = wants_of(devices.site)
        self.made: list[Answered] = []

    def terms_of(self, name: str) -> Terms:
        """What one device is audited by."""
        return replace(
            self.terms, expected=self.devices.expected(name), not_read=self.unread.get(name)
        )

    def terms_at(self, device: Device) -> Terms:
        """What one device is audited by at the time when it was read."""
        return replace(self.terms_of(device.device), now=device.taken_at, not_read=None)

    def answer(self, judged: JudgedDevice) -> Answered:
        """The answer for one device. Raises InputError."""
        try:
            return answer_of(judged, self.wants, self.terms_of(judged.device.device))
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

    def take(self, device: Device, judge: Judge) -> None:
        """Find the answer for one device."""
        self.made.append(self.answer(judge_device(device, judge)))

    def result(self) -> list[Answered]:
        """The answers for the devices taken since the last call."""
        made, self.made = self.made, []
        return made


def with_unread(devices: Devices, found: Iterable[Answered]) -> list[Answered]:
    """These answers, and those for the devices of which nothing is known."""
    return [*found, *(unread(one) for one in devices.not_read if one.last_read is None)]


def tally_of(found: Iterable[Answered]) -> Tally:
    """Count answers."""
    tally = Tally()
    for one in found:
        tally.add(one)
    return tally
