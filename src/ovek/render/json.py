"""Results as JSON: one object a command, keys sorted, stable (`ovek.audit/1` and so on)."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import msgspec
import msgspec.structs

from ovek.model.place import Place
from ovek.model.result import Result
from ovek.model.results.audit import FleetAudit
from ovek.model.results.cleanup import FleetCleanup
from ovek.model.results.walks import FleetWalks
from ovek.model.walk import DeviceWalk
from ovek.render.view import View

_ENCODER = msgspec.json.Encoder(order="sorted")


def whole(result: Result, view: View) -> Iterator[bytes]:
    """Write a result as one object: its format, and its fields."""
    yield _ENCODER.encode(_fields(result)) + b"\n"


def lines(result: Result, view: View) -> Iterator[bytes]:
    """Write the values of a result's list, a line each."""
    yield from map(_line, _fields(result)[result.LIST] or ())


def _fields(result: Result) -> dict[str, Any]:
    """What a result is as an object."""
    fields = msgspec.structs.asdict(result)
    if result.INLINE is not None:
        fields |= msgspec.structs.asdict(fields.pop(result.INLINE))
    kept = {name: value for name, value in fields.items() if name not in result.BESIDE}
    return {"format": result.FORMAT, **kept}


def _line(value: Any) -> bytes:
    """One value as a line of JSON, its keys sorted."""
    return _ENCODER.encode(value) + b"\n"


def audit(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Write `ovek.audit/1` piece by piece."""
    rest = _fields(result)
    del rest["devices"]
    yield b'{"as_of":' + _ENCODER.encode(rest.pop("as_of")) + b',"devices":['
    yield from _listed(result.devices.lines())
    yield b"],\n" + _ENCODER.encode(rest)[1:] + b"\n"


def audit_lines(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Write a line for each device, then one for each of which nothing is known."""
    for line in result.devices.lines():
        yield line + b"\n"
    yield from (_line(one) for one in result.not_read if one.last_read is None)


def cleanup(result: FleetCleanup, view: View) -> Iterator[bytes]:
    """Write `ovek.cleanup/1` piece by piece, with totals."""
    rest = _fields(result)
    del rest["plans"]
    totals = _ENCODER.encode(rest.pop("totals"))
    yield _ENCODER.encode(rest)[:-1] + b',"plans":['
    yield from _listed(result.plans.lines())
    yield b'],\n"totals":' + totals + b"}\n"


def cleanup_lines(result: FleetCleanup, view: View) -> Iterator[bytes]:
    """Write a line for each plan."""
    return (line + b"\n" for line in result.plans.lines())


def _listed(values: Iterable[bytes]) -> Iterator[bytes]:
    """The values of a list, each in a line of its own."""
    comma = b"\n"
    for value in values:
        yield comma + value
        comma = b",\n"


def walks(result: FleetWalks, view: View) -> Iterator[bytes]:
    """Write `ovek.bootwalk/1`; without a what-if it tells of none."""
    fields = _fields(result) | {"devices": _plain(result.devices)}
    as_it_is, supposed = fields.pop("as_it_is"), fields.pop("supposed")
    if supposed:
        fields |= {"supposed": supposed, "as_it_is": _plain(as_it_is)}
    yield _ENCODER.encode(fields) + b"\n"


def walk_lines(result: FleetWalks, view: View) -> Iterator[bytes]:
    """Write a line for each device."""
    yield from map(_line, _plain(result.devices))


def _plain(walks: Sequence[DeviceWalk]) -> Any:
    """Walks as plain data, each place that is found as its text."""
    plain = msgspec.to_builtins(list(walks))
    for device in plain:
        for member in device["members"]:
            for tried in (*member["tried"], *member["rescue"], member["boots"] or {}):
                if tried.get("at") is not None:
                    tried["at"] = str(Place(*tried["at"]))
    return plain
