"""A rule: devices of the quay have a serial number in their inventory.

A rule is a function of a subject. It yields a `Said` for each trouble, and nothing where a fact is
unknown. It asks no clock: ages come from `subject.times`.
"""

from collections.abc import Iterator

from ovek.engine.rules import Said, Subject, rule


@rule(
    "harbour-no-serial",
    "note",
    "The harbour's inventory counts devices by their serial numbers.",
    "Add the serial number to the sheet's questions, and read the device again",
    reads=("name",),
)
def harbour_no_serial(subject: Subject) -> Iterator[Said]:
    """A device of the quay told no serial number."""
    device = subject.judged.device
    if device.device.startswith("arle-") and device.hardware.serial is None:
        yield Said(member=None, place=None, seen="the device tells no serial number")
