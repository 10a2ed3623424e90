"""Harrock: stackable switches that answer in tables, with cells that stay empty."""

from languages.spoken import Held

_WORKS = "{:<6}{:<10}{:<9}{:>12}{:>12}  {}\n"


class Harrock:
    """`units` are ids; `drives` are name, state, format, KiB and free KiB, by unit."""

    banner = "HARROCK H7\nWho is not expected here leaves now.\n\n"

    def __init__(self, name="mill-a", units=("1",), files=None, drives=None):
        self.prompt = f"{name} =>"
        self.units = units
        self.files = files or {
            "disk": [
                Held("h7-4.1.0.hri", 41_943_040, "12.01.2026 08:30"),
                Held("h7-4.2.1.hri", 43_122_688, "03.11.2026 17:05"),
                Held("site.hset", 20_412, "03.11.2026 17:06"),
                Held("old notes.txt", 312, "30.12.2025 23:59"),
            ],
            "card": [Held("h7-4.2.1.hri", 43_122_688, "01.11.2026 09:00")],
        }
        self.drives = drives or [
            ("disk", "sound", "ext4", 262_144, 90_112, "inside"),
            ("card", "sound", "fat32", 1_048_576, 1_001_232, "slot"),
            ("stick", "missing", "", "", "", "slot"),
        ]

    def answer(self, typed):
        match typed.split():
            case ["list", "unit"]:
                return self._units()
            case ["list", "works"]:
                return (
                    "Make          Harrock\nModel         H7-24\nBoard         C4\n"
                    "Serial        HK-77120\nMemory        2048 MB\nRuns          4.2.1\n"
                    "From          disk:h7-4.2.1.hri\nTime          25.11.2026 09:14\n"
                    "Up            12 days\nFans          2 of 2\nSettings      kept\n"
                )
            case ["list", "drives", unit]:
                head = f"Drives of unit {unit}\n\n"
                head += _WORKS.format(
                    "Drive", "State", "Format", "Size (KiB)", "Free (KiB)", "Place"
                )
                rows = "".join(_WORKS.format(*drive) for drive in self.drives)
                return head + "-" * 60 + "\n" + rows + f"\n{len(self.drives)} drives\n"
            case ["list", "content", unit, drive]:
                held = self.files.get(drive)
                if held is None:
                    return f"!! no drive {drive} in unit {unit}\n"
                if not held:
                    return f"Drive {drive} of unit {unit} is empty.\n"
                head = "      Bytes  Written           Name\n"
                rows = "".join(f"{f.size:>11}  {f.modified}  {f.path}\n" for f in held)
                total = sum(f.size for f in held)
                return f"{head}{rows}\n{len(held)} files, {total:,} bytes\n"
            case ["list", "start", unit]:
                return (
                    "Rank  Image                    Settings\n"
                    "1     disk:h7-4.2.1.hri        site.hset\n"
                    "2     disk:h7-4.1.0.hri        site.hset\n"
                )
            case ["list", "heat"]:
                rows = "".join(f"{n:<6}{'sensor ' + str(n):<14}{30 + n}\n" for n in range(1, 45))
                return "Place Name          Celsius\n" + rows
            case ["sum", algorithm, unit, drive, path]:
                held = {file.path: file for file in self.files.get(drive, ())}
                if path not in held:
                    return "!! no such file\n"
                return f"working …\n{algorithm} {held[path].digest(algorithm)}  {path}\n"
            case ["depart"]:
                return None
        return f"!! what is {typed}?\n"

    def _units(self):
        rows = "".join(
            f"{u:<6}{'first' if u == '1' else 'other':<8}{'4.2.1':<8}HK-7712{at}\n"
            for at, u in enumerate(self.units)
        )
        return f"Unit  Rank    Runs    Serial\n====  ======  ======  ========\n{rows}"


TYPED = (
    "list unit", "list works", "list drives 1", "list content 1 disk", "list content 1 card",
    "list start 1", "list heat", "sum sha256 1 disk h7-4.2.1.hri", "sum sha256 1 disk h7-4.1.0.hri",
    "sum sha256 1 card h7-4.2.1.hri", "list content 1 stick", "depart",
)  # fmt: skip
# What a person puts into a copy of the session: the text, and the same with its marks.
MARKS = (
    ("1     first", "<<member=1>>     first"),
    ("H7-24", "<<model=H7-24>>"),
    ("Runs          4.2.1", "Runs          <<running.version=4.2.1>>"),
    ("disk  sound     ext4           262144       90112",
     "<<volume=disk>>  <<state(ok)=sound>>     ext4           <<capacity=262144>>       "
     "<<free=90112>>"),
    ("stick missing", "stick <<state(absent)=missing>>"),
    ("41943040  12.01.2026 08:30  h7-4.1.0.hri",
     "<<size=41943040>>  12.01.2026 08:30  <<path=h7-4.1.0.hri>>"),
    ("1     disk:h7-4.2.1.hri", "1     <<place=disk:h7-4.2.1.hri>>"),
    ("sha256 553df3aa60e7404e4447664b37e83d26ac593caba29cd63f9a4ddc2afca377e5",
     "sha256 <<sha256=553df3aa60e7404e4447664b37e83d26ac593caba29cd63f9a4ddc2afca377e5>>"),
)  # fmt: skip
# Another device: three units, a volume that is empty, a name that is longer than its column.
OTHER = Harrock(
    name="mill-b",
    units=("1", "2", "3"),
    files={
        "disk": [
            Held("h7-4.2.1.hri", 43_122_688, "03.11.2026 17:05"),
            Held("a-very-long-name-of-a-file-that-nobody-expected.hset", 1, "01.01.2026 00:00"),
        ],
        "card": [],
    },
)
OTHER_TYPED = (
    "list unit", "list works", *(f"list drives {u}" for u in "123"),
    *(f"list content {u} {d}" for u in "123" for d in ("disk", "card")),
    *(f"list start {u}" for u in "123"),
    *(f"sum sha256 {u} disk h7-4.2.1.hri" for u in "123"), "depart",
)  # fmt: skip
