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
        "Ovek logged in to every device over SSH. One ship is out of reach (not read), and one "
        "sent only part of its facts (partly read). The other devices are not affected.",
    ),
    Stop(
        ("survey", "gannet-bridge", "--fresh"),
        "One ship again; --fresh reads every digest again. Every command uses the latest "
        "reading of each device, so the other devices still count.",
    ),
    Stop(
        ("compare", "2026-11-20", "*-bridge"),
        "An image on gannet-bridge is corrupted: the file is still there, but its digest has "
        "changed, so it is altered and no longer proven. The other ships that were read are the "
        "same.",
    ),
    Stop(
        ("audit",),
        "Two of the no-go devices have nothing bootable: a reload would take them down. Read "
        "the reason before you touch a no-go device. Under FINDINGS, each device has one plan; "
        "DANGER marks a plan with a step during which the power must not fail.",
    ),
    Stop(
        ("runbook", "brack-slip"),
        "The plan of an old switch, step by step: the intermediate release 7.4.1 first, then "
        "newer boot loader firmware, then 7.4.2, with two reloads. DANGER marks the one step "
        "during which a power failure may leave the device unbootable.",
    ),
    Stop(
        ("runbook",),
        "The same for all devices: the steps left, the next step of each, and the reloads in "
        "waves that fit the maintenance windows of policy.toml.",
    ),
    Stop(
        ("bootwalk", "arle-quay"),
        "The boot order names a file that does not exist, so this loader boots the first image "
        "it finds: 7.2.5, which is older than the running 7.4.1.",
    ),
    Stop(
        ("bootwalk", "brack-wifi"),
        "The default bank has an altered image, and this loader stops at a bad image. Bank 1 "
        "has a proven image that can be booted by hand.",
    ),
    Stop(
        ("bootwalk", "brack-hall", "--if-saved"),
        "What if the live boot settings are saved now? The next boot would be 7.4.2 instead of "
        "7.4.1, and proven. Nothing was changed on the device.",
    ),
    Stop(
        ("compare", "before-7.4.2", "arle-[cs]*", "--expect", "7.4.2"),
        "Compared with the baseline that was saved before the upgrade: arle-core is done; "
        "member 3 of arle-stack is not.",
    ),
    Stop(
        ("custody", "ox40-full-7.4.2.img"),
        "Two devices have a bad copy. Every other copy matches the digest in the catalog, so "
        "the bad copies were damaged on these two devices. No shelf has a copy: store one.",
    ),
    Stop(
        ("cleanup", "gannet-bridge", "--free", "60MiB"),
        "Four files that no boot setting uses (tier 1) are enough. The running image and the "
        "settings are kept. Ovek only plans; you delete.",
    ),
    Stop(
        ("cleanup", "holm-ramp", "--room-for", "ox40-full-7.4.2.img"),
        "Deleting a crash dump and a leftover would make space for the image. But STOP: no "
        "upgrade path leads from this trial build to it.",
    ),
    Stop(
        ("cleanup", "--whole-fleet", "--room-for", "target"),
        "Is there enough space for the upgrade everywhere? On most volumes yes. On two, only "
        "deleting the running image would make space, and Ovek never plans that unless you "
        "allow it (--may-drop running).",
    ),
)


def write_site(folder: Path) -> None:
    """Write the sample site to a folder that is new or empty; raise InputError where it is not."""
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            text = "already exists and is not an empty folder"
            raise InputError(folder, text, "Name a new folder: ovek demo FOLDER")
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
