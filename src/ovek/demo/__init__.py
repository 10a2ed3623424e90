"""The sample site, Skerrow Ferries, as package data, and the tour of it. All of it is made up."""

import tempfile
from importlib import resources
from pathlib import Path

from msgspec import Struct

from ovek.app.errors import InputError
from ovek.app.output import write_file


class Stop(Struct, frozen=True):
    """One stop of the tour: what is typed, and what the output means."""

    typed: tuple[str, ...]
    means: str


TOUR = (
    Stop(
        ("survey",),
        "The fleet was read over SSH. One ship is out of reach and one answered only half: each "
        "costs its own line. Digests that are known for the same place, size and time were not "
        "asked for again.",
    ),
    Stop(
        ("survey", "gannet-bridge", "--fresh"),
        "One ship again, its digests measured anew. That refreshes this ship and hides no other "
        "device: every command takes the newest line of each.",
    ),
    Stop(
        ("compare", "2026-11-20", "*-bridge"),
        "An image rotted: its name, size and time are as before, and its digest is not. Of another "
        "ship the proof was carried over, and every output says how old it is.",
    ),
    Stop(
        ("audit",),
        "Two devices would not come back from a reload, and five more would boot what nobody "
        "wants, or without their configuration: do not touch them before you have read why. Each "
        "device has one plan, in short under its findings.",
    ),
    Stop(
        ("runbook", "brack-slip"),
        "The plan of one old switch, step by step: over a release between, a newer boot loader, "
        "and two reloads. Each step was tried out, also with a power failure in its middle; where "
        "that does harm, DANGER says so. Audit, cleanup and report name the same steps.",
    ),
    Stop(
        ("runbook",),
        "And for the fleet: who is done, what comes next, and the reloads in waves that keep to "
        "the windows of policy.",
    ),
    Stop(
        ("bootwalk", "arle-quay"),
        "Its boot order names a file that is not there, so the loader takes the first image that "
        "it finds: a release two years older.",
    ),
    Stop(
        ("bootwalk", "brack-wifi"),
        "The default bank holds an altered image and this loader halts at one; bank 1 is sound, "
        "and pointing the saved default at it fixes the next boot.",
    ),
    Stop(
        ("bootwalk", "brack-hall", "--if-saved"),
        "What if the live settings were saved now? The next boot would be the new release, and it "
        "is proven. Nothing was touched.",
    ),
    Stop(
        ("compare", "before-7.4.2", "arle-[cs]*", "--expect", "7.4.2"),
        "Held against the snapshot that was kept before the upgrade: one switch is done, and the "
        "stack left a member behind.",
    ),
    Stop(
        ("custody", "ox40-full-7.4.2.img"),
        "Two flashes hold something else under this name; every other copy is the published one, "
        "so that the server is not to blame.",
    ),
    Stop(
        ("cleanup", "gannet-bridge", "--free", "60MiB"),
        "Nothing that the device needs is touched: leftovers go first, then a second copy. Ovek "
        "only plans; you delete.",
    ),
    Stop(
        ("cleanup", "holm-ramp", "--room-for", "ox40-full-7.4.2.img"),
        "Without a dump and a leftover, the recommended release would fit; the running image and "
        "the settings are kept. But no upgrade path leads there from the trial build: no steps.",
    ),
    Stop(
        ("cleanup", "--whole-fleet", "--room-for", "target"),
        "Is there room for the upgrade, everywhere? Most have it or can make it; one ship has not, "
        "unless its running image goes, and that is never offered unasked.",
    ),
)


def write_site(folder: Path) -> None:
    """Write the sample site to a folder that is new or empty; raise InputError where it is not."""
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            met = "already exists and is not an empty folder"
            raise InputError(folder, met, "Name a new folder: ovek demo FOLDER")
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(folder, f"cannot be used ({reason})", "Choose another folder") from None
    source = Path(str(resources.files("ovek.demo") / "site"))
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        # Beside its place and then put there, so that nobody finds half a site.
        with tempfile.TemporaryDirectory(prefix=".ovek-", dir=folder.parent) as beside:
            made = Path(beside) / "site"
            for file in sorted(source.rglob("*")):
                if file.is_file():
                    write_file(made / file.relative_to(source), [file.read_bytes()])
            made.replace(folder)
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(folder, f"cannot be written ({reason})", "Choose another folder") from None
