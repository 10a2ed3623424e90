"""A generated site of any size, for the benchmarks: one kind of device, no two the same."""

import hashlib
import json
import random
from pathlib import Path

FULL = "ox40-full-{}.img"
VERSIONS = ("7.2.5", "7.3.3", "7.4.1", "7.4.2", "7.5.0")


def digest(text: str, algorithm: str = "sha512") -> str:
    return hashlib.new(algorithm, text.encode()).hexdigest()


def write_site(folder: Path, devices: int, files: int = 60, releases: int = 0) -> Path:
    """Write a site; return its snapshot. A fifth of the devices have some trouble.

    With `releases`, the catalog holds so many more, a twentieth of them for these devices; and
    policy wants the recommended one.
    """
    (folder / "catalog").mkdir(parents=True, exist_ok=True)
    (folder / "snapshots").mkdir(exist_ok=True)
    (folder / "fleet.toml").write_text('name = "generated"\n')
    known = [
        {
            "file": FULL.format(version),
            "size": 600_000_000 + number,
            "digests": {"sha512": digest(FULL.format(version))},
            "version": version,
            "kind": "system-image",
            "hardware": ["OX40-*"],
        }
        for number, version in enumerate(VERSIONS)
    ]
    catalog = {"format": "ovek.catalog/1", "publisher": "Oxwick", "releases": known}
    (folder / "catalog/oxwick.json").write_text(json.dumps(catalog, indent=1))
    if releases:
        more = {"format": "ovek.catalog/1", "publisher": "Oxwick", "releases": _more(releases)}
        (folder / "catalog/more.json").write_text(json.dumps(more))
        policy = 'format = "ovek.policy/1"\ntarget = "recommended"\n'
        (folder / "policy.toml").write_text(policy)
    snapshot = folder / "snapshots/generated.jsonl"
    chance = random.Random(40)
    with snapshot.open("w") as out:
        for number in range(devices):
            out.write(json.dumps(_device(number, files, chance), separators=(",", ":")) + "\n")
    return snapshot


def _more(number: int) -> list[dict]:
    """Releases in twenty families of hardware; in each the last is the recommended one.

    Each can be installed over any line up to its own, so that a plan has one install however many
    releases there are.
    """
    found = []
    for at in range(number):
        family, step = at % 20, at // 20
        major = 8 + step // 500
        name = f"f{family}-full-{major}.{step % 500}.img"
        found.append(
            {
                "file": name,
                "size": 600_000_000 + at,
                "digests": {"sha512": digest(name)},
                "version": f"{major}.{step % 500}",
                "kind": "system-image",
                "hardware": ["OX40-*" if family == 0 else f"OX{family + 40}-*"],
                "from": [str(line) for line in range(7, major + 1)],
                "status": "recommended" if at >= number - 20 else "current",
            }
        )
    return found


def _device(number: int, files: int, chance: random.Random) -> dict:
    versions = chance.sample(range(len(VERSIONS)), 3)
    listing = []
    for at in versions:
        name = FULL.format(VERSIONS[at])
        broken = chance.random() < 0.05
        listing.append(
            {
                "path": name,
                "size": 600_000_000 + at - (broken and 4096),
                "modified": "2026-02-11T08:00:00Z",
                "digests": {"sha512": digest(f"{number}") if broken else digest(name)},
            }
        )
    for at in range(files - len(listing)):
        kind = ("crash/dump-{}-{}.dump", "log/{}-{}.log", "data-{}-{}.bin", "spare/{}-{}.settings")
        listing.append(
            {
                "path": kind[at % 4].format(number, at),
                "size": chance.randrange(1, 40_000_000),
                "modified": "2025-11-02T08:00:00Z",
                "digests": {"md5": digest(f"{number} {at}", "md5")} if at % 2 else None,
            }
        )
    used = sum(-(-file["size"] // 4096) * 4096 for file in listing)
    order = [{"place": f"flash:{FULL.format(VERSIONS[at])}", "raw": "x"} for at in versions[:2]]
    return {
        "format": "ovek.snapshot/1",
        "device": f"device-{number:06}",
        "sheet": "oxwick-40",
        "taken_at": "2026-11-20T21:14:05Z",
        "clock": "2026-11-20T21:14:04Z",
        "hardware": {"model": "OX40-24F"},
        "running": {
            "version": VERSIONS[versions[0]],
            "place": f"flash:{FULL.format(VERSIONS[versions[0]])}",
        },
        "members": [
            {
                "id": "1",
                "volumes": [
                    {
                        "name": "flash",
                        "state": "ok",
                        "filesystem": "fat32" if number % 3 == 0 else "ext4",
                        "capacity": used + 400_000_000,
                        "free": 400_000_000 if number % 10 else 4_000_000,
                        "cluster": 4096,
                        "files": listing,
                        "sets": [],
                    }
                ],
                "banks": [],
                "boot": {
                    "mode": {"live": "listed", "saved": "listed"},
                    "order": {"live": order, "saved": order if number % 20 else order[:1]},
                    "ignores_saved_config": {"live": False, "saved": False},
                },
                "components": [
                    {"component": "boot-loader", "version": "10.1.12", "loads_from": "itself"}
                ],
            }
        ],
        "config": {"unsaved_changes": False, "backed_up_at": "2026-11-18T03:00:00Z"},
    }
