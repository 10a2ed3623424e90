"""What to do, change by change: part of a finding and of a runbook (`ovek.audit/1`)."""

from msgspec import Struct

from ovek.model.change import ChangeKind
from ovek.model.digest import Algorithm
from ovek.model.snapshot import BootMode
from ovek.model.walk import NextBoot


class Do(Struct, frozen=True, kw_only=True, omit_defaults=True, rename={"from_": "from"}):
    """One step of a plan: a change that a person makes, and how the device stands then.

    `number` is that of the step in the plan of its device, `words` say the change to a person.
    `member` is told where there are several. `place` is the file or bank that it is about, `also`
    what goes with it. `source` is the bank that is copied, or where a copy is from on the device;
    `from` the file of the shelf that has these bytes. `image` is the file that is brought,
    `version` what it is; `component` and `slot` what that is loaded into; `order` the entries that
    are set, `mode` and `bank` likewise; `algorithm` and `digest` what is to be read; `config` is
    whether it is the configuration that is saved. `lines` are what the sheet says to type,
    `by_hand` whether there would be some but for a name that is not safe to type. `next_boot` and
    `boots` are the reload verdict and the next boot then; `tier`, `why` and `frees` (bytes) are
    told of what is deleted; `harm` is what a power failure in it or right after it would leave
    worse. `minutes` None is not known.
    """

    change: ChangeKind
    number: int = 0
    words: str = ""
    member: str | None = None
    place: str | None = None
    also: tuple[str, ...] = ()
    source: str | None = None
    from_: str | None = None
    tier: int | None = None
    why: str = ""
    frees: int | None = None
    bank: str | None = None
    image: str | None = None
    component: str | None = None
    slot: str | None = None
    version: str | None = None
    order: tuple[str, ...] | None = None
    mode: BootMode | None = None
    algorithm: Algorithm | None = None
    digest: str | None = None
    lines: tuple[str, ...] = ()
    by_hand: bool = False
    next_boot: NextBoot = "unknown"
    boots: str | None = None
    config: bool = False
    harm: tuple[str, ...] = ()
    minutes: int | None = None
