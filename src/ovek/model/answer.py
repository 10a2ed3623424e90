"""What a change board asks of each device: may it reload, and why not?"""

from typing import Literal, get_args

from msgspec import Struct, field

from ovek.model.walk import NextBoot

Answer = Literal["no-go", "unclear", "go"]
ANSWERS_WORST_FIRST: tuple[Answer, ...] = get_args(Answer)


# Why a device does not go, where no rule says it.
NOTHING, UNPROVEN, UNKNOWN, UNREAD = (
    "nothing bootable",
    "next boot unproven",
    "next boot unknown",
    "not read",
)
UNWANTED, ANOTHER, CONFIG_UNKNOWN = (
    "next boot unwanted",
    "next boot is not the running version",
    "unknown whether the saved configuration is read",
)


class Answered(Struct, frozen=True, kw_only=True):
    """The answer for one device. `why` is its main reason in a few words, `detail` in a sentence.

    Both are empty for a plain go. `waived` is how many critical findings a go leaves to waivers,
    `read` is whether the last survey that tried the device could read it.
    """

    device: str
    answer: Answer
    why: str = ""
    detail: str = ""
    waived: int = 0
    read: bool = True
    next_boot: NextBoot | None = None


class Tally(Struct, kw_only=True):
    """How many devices have which answer, and how many of the unclear ones were not read.

    `waived` are devices that go because somebody accepted what would keep them.
    """

    go: int = 0
    no_go: int = field(default=0, name="no-go")
    unclear: int = 0
    not_read: int = 0
    waived: int = 0

    @property
    def devices(self) -> int:
        """All devices that were asked about."""
        return self.go + self.no_go + self.unclear

    def add(self, answered: Answered) -> None:
        """Count one device in."""
        name = answered.answer.replace("-", "_")
        setattr(self, name, getattr(self, name) + 1)
        self.not_read += not answered.read
        self.waived += answered.answer == "go" and answered.waived > 0
