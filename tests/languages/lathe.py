"""Lathe: controllers with two banks that show numbered menus."""

from languages.spoken import Held

_HOME = (
    "\n  ---- Lathe 3 ----\n"
    "  1) About this controller\n  2) Storage\n  3) Slots\n  4) Climate\n  9) Leave\n\n"
)
_STORAGE = "\n  ---- Storage ----\n  1) Drives\n  2) Files of a drive\n  0) Back\n\n"
_CHOICE = "Your choice: "
_DRIVE = "Which drive? "


class Lathe:
    """Banks are slots A and B; files of its drives are reached through a menu below the first."""

    banner = "Lathe 3\n" + _HOME

    def __init__(self, name="", files=None, chosen=1):
        self.files = files or {
            "main": [
                Held("report.txt", 1_207, "2026-11-20 10:00"),
                Held("climate.log", 88_431, "2026-11-25 03:00"),
            ],
            "spare": [Held("lt3-2.9.lti", 25_165_824, "2026-10-02 16:20")],
        }
        self.chosen = chosen
        self.at = "home"

    @property
    def prompt(self):
        return _DRIVE if self.at == "drive" else _CHOICE

    def answer(self, typed):
        match self.at, typed:
            case "home", "1":
                return (
                    "Model ........ LT3-A\nSerial ....... 0099-18\nRelease ...... 2.9\n"
                    "Booted from .. slot A\nClock ........ 2026-11-25T21:00:14\n"
                    "Contact ...... the port office\n" + _HOME
                )
            case "home", "2":
                self.at = "storage"
                return _STORAGE
            case "home", "3":
                return (
                    "Slot A\n  Health: good\n  Release: 2.9\n  Length: 25165824 bytes\n"
                    f"  MD5: {'0123456789abcdef' * 2}\n"
                    "Slot B\n  Health: good\n  Release: 2.8\n  Length: 24903680 bytes\n"
                    f"  MD5: {'fedcba9876543210' * 2}\n"
                    "\n  1) Slot A\n  2) Slot B\n"
                    f"At the next start: {self.chosen}\n" + _HOME
                )
            case "home", "4":
                return "".join(f"Fan {n}: {900 + n} turns\n" for n in range(1, 40)) + _HOME
            case "home", "9":
                return None
            case "storage", "0":
                self.at = "home"
                return _HOME
            case "storage", "1":
                return (
                    "main   16384 KiB   9216 KiB free   jffs2\n"
                    "spare  65536 KiB  40960 KiB free   fat16\n" + _STORAGE
                )
            case "storage", "2":
                self.at = "drive"
                return ""
            case "drive", drive:
                self.at = "storage"
                held = self.files.get(drive, ())
                if not held:
                    return "Nothing there.\n" + _STORAGE
                rows = "".join(f"{f.modified}  {f.size:>10}  {f.path}\n" for f in held)
                return rows + _STORAGE
        return "No such choice.\n"


TYPED = ("1", "3", "2", "1", "2", "main", "2", "spare", "0", "4", "9")
MARKS = (
    ("LT3-A", "<<model=LT3-A>>"),
    ("Release ...... 2.9", "Release ...... <<running.version=2.9>>"),
    ("Slot A\n  Health: good\n  Release: 2.9",
     "Slot <<bank=A>>\n  Health: <<state(ok)=good>>\n  Release: <<version=2.9>>"),
    ("MD5: 0123456789abcdef0123456789abcdef", "MD5: <<md5=0123456789abcdef0123456789abcdef>>"),
    ("At the next start: 1", "At the next start: <<default_bank.saved=1>>"),
    ("main   16384 KiB   9216", "<<volume=main>>   <<capacity=16384>> KiB   <<free=9216>>"),
    ("2026-11-20 10:00        1207  report.txt",
     "2026-11-20 10:00        <<size=1207>>  <<path=report.txt>>"),
)  # fmt: skip
# Another device: the other bank is chosen, a drive is empty, and what is typed comes in another
# order.
OTHER = Lathe(files={"main": [], "spare": [Held("x.lti", 3, "2026-01-01 00:00")]}, chosen=2)
OTHER_TYPED = ("3", "2", "2", "spare", "1", "2", "main", "0", "1", "9")
