"""Where members may boot from on the way of a plan."""

from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.plan.aim import fallback_of
from ovek.engine.plan.kinds import Changes, Legs
from ovek.engine.plan.situation import Situation
from ovek.model.change import Commit, Copy, WriteBank
from ovek.model.place import BANK, Place


def meant_by(now: Situation, legs: Legs, changes: Changes) -> frozenset[Place]:
    """Where members may boot from on the way: the aim, the fallback and what runs."""
    found = set[Place]()
    for one, leg in zip(now.members, legs.of, strict=True):
        if leg.home is not None:
            found.add(leg.home)
        running = now.runs_on(leg.member)
        if running.sure:
            found.update(running.places)
        layout = layout_of(now.judged)
        if layout.holder == "files":
            back = fallback_of(now, one, leg)
            if back is not None:
                found.add(back.place.on(leg.member))
        elif layout.pair:  # what is committed is what a trial falls back to
            found.add(Place(BANK, COMMITTED, leg.member))
    for change in changes:
        match change:
            case Copy(place=place, bank=bank):
                found.add(place if bank is None else Place(BANK, bank, place.member))
            case WriteBank(member=member, bank=bank):
                found.add(Place(BANK, bank, member))
            case Commit(member=member):
                found |= {Place(BANK, COMMITTED, member), Place(BANK, TRIAL, member)}
            case _:
                pass
    return frozenset(found)
