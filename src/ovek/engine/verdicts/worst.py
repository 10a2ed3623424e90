"""The worst of several verdicts."""

from collections.abc import Iterable

from msgspec.structs import replace

from ovek.model.digest import STRONGEST_FIRST, TITLES
from ovek.model.verdict import WORST_FIRST, Judgement


def _worst(judgements: Iterable[Judgement]) -> Judgement:
    """The judgement that counts for the whole: the worst, and the weakest digest of those."""

    return min(judgements, key=rank)


def rank(judgement: Judgement) -> tuple[int, int, str]:
    """Where a judgement stands, the worst first."""
    return (
        WORST_FIRST.index(judgement.verdict),
        -STRONGEST_FIRST.index(judgement.by or "sha512"),
        judgement.why,
    )


def whole(judgements: list[Judgement]) -> Judgement:
    """Judge what is made of several files."""
    worst = _worst(judgements)
    if worst.verdict != "proven" or worst.by is None or len(judgements) == 1:
        return worst
    return replace(
        worst, why=f"its {len(judgements)} files are proven, the weakest by {TITLES[worst.by]}"
    )
