"""Corrie: routers that answer in sentences."""

from languages.spoken import Held


class Corrie:
    """One member, drives `inner` and `outer`, files told one in a sentence."""

    banner = "You have reached a Corrie.\n"

    def __init__(self, name="glen", files=None, outer=True):
        self.prompt = f"<{name}> "
        self.name = name
        self.outer = outer
        self.files = files or {
            "inner": [
                Held("cr-5.2.1.image", 31_457_280, "3 March 2026, 14:02:11"),
                Held("cr-5.1.image", 30_932_992, "18 October 2025, 07:45:00"),
                Held("settings.words", 9_120, "21 November 2026, 22:10:41"),
            ],
            "outer": [Held("cr-5.2.1.image", 31_457_280, "4 March 2026, 10:00:00")],
        }

    def answer(self, typed):
        match typed.split():
            case ["who", "are", "you"]:
                return (
                    f"I am {self.name}, a Corrie CR-12 of revision C, serial number 4417-09.\n"
                    "I run version 5.2.1, which I took from inner:cr-5.2.1.image.\n"
                    "My clock says 25 November 2026, 21:14:05.\n"
                    "I hold 512 MiB of memory, of which 117 MiB are free.\n"
                    "Nothing was changed since the settings were kept.\n"
                    "It is 31 degrees in here.\n"
                )
            case ["what", "can", "you", "store"]:
                told = (
                    "Drive inner is in order: 128 MiB of ext4, 61 MiB free.\n"
                    "Drive outer is in order: 64 MiB of fat16, 33 MiB free.\n"
                )
                return told if self.outer else told.split("\n")[0] + "\n"
            case ["what", "is", "on", drive]:
                if drive not in self.files:
                    return f"I do not know of {drive}.\n"
                held = self.files[drive]
                if not held:
                    return f"There is nothing on {drive}.\n"
                rows = "".join(
                    f"There is {f.path}, {f.size:,} bytes, written on {f.modified}.\n" for f in held
                )
                return f"{rows}That makes {len(held)} on {drive}.\n"
            case ["how", "do", "you", "start"]:
                return (
                    "At the next start I first try inner:cr-5.2.1.image.\n"
                    "If that fails I try inner:cr-5.1.image.\n"
                    "If nothing is found I wait for somebody.\n"
                )
            case ["what", "is", "the", algorithm, "of", path, "on", drive]:
                held = {file.path: file for file in self.files.get(drive, ())}
                if path not in held:
                    return f"I do not know of {path}.\n"
                return f"The {algorithm} of {path} is {held[path].digest(algorithm)}.\n"
            case ["what", "is", "attached"]:
                return "".join(
                    f"On port {n} I see {'a neighbour' if n % 3 else 'nobody'}, since {n} hours.\n"
                    for n in range(1, 80)
                )
            case ["farewell"]:
                return None
        return "I do not understand.\n"


TYPED = (
    "who are you", "what can you store", "what is on inner", "what is on outer", "how do you start",
    "what is attached", "what is the md5 of cr-5.2.1.image on inner",
    "what is the md5 of cr-5.1.image on inner", "what is the md5 of cr-5.2.1.image on outer",
    "farewell",
)  # fmt: skip
MARKS = (
    ("CR-12", "<<model=CR-12>>"),
    ("version 5.2.1", "version <<running.version=5.2.1>>"),
    ("Drive inner is in order: 128 MiB of ext4, 61 MiB",
     "Drive <<volume=inner>> is <<state(ok)=in order>>: <<capacity=128>> MiB of ext4, "
     "<<free=61>> MiB"),
    ("There is cr-5.2.1.image, 31,457,280 bytes, written on 3 March 2026, 14:02:11.",
     "There is <<path=cr-5.2.1.image>>, <<size=31,457,280>> bytes, written on "
     "<<modified=3 March 2026, 14:02:11>>."),
    ("try inner:cr-5.2.1.image", "try <<place=inner:cr-5.2.1.image>>"),
    ("try inner:cr-5.1.image", "try <<place=inner:cr-5.1.image>>"),
    ("is 4ae549b0edb3ca45ff4d6ab8abdd36ae", "is <<md5=4ae549b0edb3ca45ff4d6ab8abdd36ae>>"),
)  # fmt: skip
# Another device: one drive, and a name with blanks in it.
OTHER = Corrie(
    name="strath",
    outer=False,
    files={
        "inner": [
            Held("cr-5.2.1.image", 31_457_280, "3 March 2026, 14:02:11"),
            Held("a file with blanks", 12, "1 May 2026, 00:00:00"),
        ]
    },
)
OTHER_TYPED = (
    "who are you", "what can you store", "what is on inner", "how do you start",
    "what is the md5 of cr-5.2.1.image on inner", "farewell",
)  # fmt: skip
