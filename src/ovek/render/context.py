"""Where a result comes from, in words."""

from ovek.model.context import Context, SnapshotUsed
from ovek.model.ofdevice import OfDevice
from ovek.render.visible import visible

_MOST = 3


def told(context: Context) -> str:
    """The network, the snapshots and when they were taken, and which devices, in one line."""
    parts = [visible(context.site), _snapshots(context.snapshots)]
    if context.knowing is not None:
        by = "that time" if context.knowing == "then" else "today"
        state = f"state of {context.as_of:%Y-%m-%d %H:%M} UTC"
        parts.append(f"{state}, judged by the catalog and policy of {by}")
    if context.selected:
        parts.append(f"selected: {visible(context.selected)}")
    return ", ".join(parts)


def _snapshots(used: tuple[SnapshotUsed, ...]) -> str:
    if not used:
        return "no snapshot"
    if len(used) == 1:
        return f"snapshot {visible(used[0].file)}, read {when(used[0])}"
    if len(used) <= _MOST:
        names = ", ".join(f"{visible(one.file)}: {one.devices}" for one in used)
    else:
        names = f"up to {visible(used[-1].file)}"
    first, last = min(one.first for one in used), max(one.last for one in used)
    span = SnapshotUsed(file="", devices=0, first=first, last=last)
    return f"the latest readings from {len(used)} snapshots ({names}), read {when(span)}"


def when(snapshot: SnapshotUsed) -> str:
    """From when to when a snapshot was read, in UTC."""
    first, last = f"{snapshot.first:%Y-%m-%d %H:%M}", f"{snapshot.last:%Y-%m-%d %H:%M}"
    if first == last:
        return f"{first} UTC"
    end = f"{snapshot.last:%H:%M}" if first[:10] == last[:10] else last
    return f"{first} to {end} UTC"


def of_device(device: OfDevice) -> str:
    """Where a device stands, what it does and is, and when it was read, in one line."""
    parts = [each for each in (device.site, device.role, device.model, device.sheet) if each]
    read = (
        f"read {device.taken_at:%Y-%m-%d %H:%M} UTC" if device.taken_at is not None else "not read"
    )
    return ", ".join([*map(visible, parts), read])
