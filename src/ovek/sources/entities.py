"""What a device is made of, as open standards tell it: ENTITY-MIB (RFC 6933), RFC 8348's hardware.

Both tell the same things in the same words: components with a class, what each is in, and the
revisions of its hardware, firmware and software.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ovek.model.sheet import Fills

EntityFacts = tuple[Fills, dict[str, Any]]
_MOST_MODULES = 1_000


class EntityComponent(Struct, frozen=True, kw_only=True):
    """One component: `kind` is its class (chassis, stack, module, …), `inside` what it is in.

    `position` is its place among those that are in the same one; texts that are empty are None.
    """

    id: str
    kind: str
    name: str
    inside: str | None = None
    position: int | None = None
    model: str | None = None
    serial: str | None = None
    hardware: str | None = None
    firmware: str | None = None
    software: str | None = None


def told_of(components: Sequence[EntityComponent]) -> Iterator[EntityFacts]:
    """Go through what components tell of a device: rows, each with what it fills.

    One chassis is the device. Several in a stack are its members, by their place in it; several
    that are in no stack tell nothing, since nothing says which of them is meant.
    """
    chassis = [one for one in components if one.kind == "chassis"]
    stacks = {one.id for one in components if one.kind == "stack"}
    stacked = [one for one in chassis if one.inside in stacks and one.position is not None]
    if len(chassis) == 1:
        row = _hardware(chassis[0])
        if (version := _version(chassis[0], components)) is not None:
            row["running.version"] = version
        if row:
            yield "device", row
        yield from _modules(components, chassis[0], "1")
    elif stacked and len(stacked) == len(chassis):
        places = [one.position for one in stacked]
        if len(set(places)) < len(places):
            return
        for one in sorted(stacked, key=lambda each: each.position or 0):
            member = str(one.position)
            row = {"member": member, **_hardware(one)}
            if (version := _version(one, components)) is not None:
                row["running_version"] = version
            yield "member", row
            yield from _modules(components, one, member)
        models = {one.model for one in stacked if one.model is not None}
        if len(models) == 1:
            yield "device", {"hardware.model": models.pop()}


def _hardware(component: EntityComponent) -> dict[str, Any]:
    told = {
        "hardware.model": component.model,
        "hardware.revision": component.hardware,
        "hardware.serial": component.serial,
    }
    return {name: value for name, value in told.items() if value is not None}


def _version(chassis: EntityComponent, components: Iterable[EntityComponent]) -> str | None:
    """The software of a chassis; else of its modules, where all that tell one tell the same."""
    if chassis.software is not None:
        return chassis.software
    inside = {one.software for one in _below(components, chassis) if one.software is not None}
    return inside.pop() if len(inside) == 1 else None


def _below(
    components: Iterable[EntityComponent], chassis: EntityComponent
) -> list[EntityComponent]:
    """All that is in a chassis, however deep."""
    children: dict[str, list[EntityComponent]] = {}
    for one in components:
        if one.inside is not None:
            children.setdefault(one.inside, []).append(one)
    found, todo, seen = list[EntityComponent](), [chassis.id], {chassis.id}
    while todo:
        for one in children.get(todo.pop(), ()):
            if one.id not in seen:
                seen.add(one.id)
                found.append(one)
                todo.append(one.id)
    return found


def _modules(
    components: Iterable[EntityComponent], chassis: EntityComponent, member: str
) -> Iterator[EntityFacts]:
    """The modules in a chassis that have firmware of their own."""
    modules = [
        module
        for module in _below(components, chassis)
        if module.kind == "module" and module.firmware is not None
    ]
    for module in modules[:_MOST_MODULES]:
        slot = str(module.position) if module.position is not None else None
        row = {"member": member, "component": module.name, "slot": slot, "version": module.firmware}
        yield "component", {name: value for name, value in row.items() if value is not None}
