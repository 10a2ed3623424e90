"""Sessions of devices and layouts made up at random, with the marks that a person would put in.

Of each it is known what the device holds, so that what was learned of the marked session can be
held against it: see `Made.facts`.
"""

import random
from dataclasses import dataclass, field


@dataclass
class Unit:
    """One member: its volumes with their files, and its boot order, live and saved."""

    id: str
    volumes: dict = field(default_factory=dict)  # name: (capacity, free, [(path, size)])
    banks: dict = field(default_factory=dict)  # name: (version, state)
    live: list = field(default_factory=list)
    saved: list = field(default_factory=list)


class Made:
    """A device and a session of it; `text` is marked, `facts` are what is to come out."""

    def __init__(self, seed):
        self.chance = random.Random(f"layouts {seed}")
        self.model = self.chance.choice(["QX-7", "Morl 20", "T1"])
        self.version = f"{self.chance.randint(1, 9)}.{self.chance.randint(0, 20)}"
        count = self.chance.choice([1, 1, 1, 2, 3])
        self.ids = self.chance.choice(["123", "123", "ABC"]) if count > 1 else "1"
        self.names = self.chance.sample(["nand", "disk0", "card"], self.chance.randint(1, 2))
        self.units = [self._unit(name) for name in self.ids[:count]]
        self.several = count > 1
        self.lines = []
        self.marked = set()
        self.traits = []
        self.prompt = self.chance.choice(
            [
                "dock> ",
                "dock# ",
                "[dock] $ ",
                "dock:~% ",
                "<dock>",
                "(dock 2) => ",
                "dock (main) # ",
            ]
        )
        self._about()
        self._volumes()
        self._files()
        self.digests = {}  # (member, volume, path): its digests
        self._order() if self.chance.random() < 0.75 else self._banks()
        self._digests() if self.chance.random() < 0.5 and not self.several else None
        self.lines.append(f"{self.prompt}leave")
        self.text = "\n".join(self.lines) + "\n"

    def _pick(self, name, *ways):
        way = self.chance.choice(ways)
        self.traits.append(f"{name}:{way}")
        return way

    def _unit(self, name):
        unit = Unit(name)
        for volume in self.names:
            files = [(f"qx-{self.version}.img", 44_040_192)]
            files += [
                (f"qx-{self.chance.randint(1, 9)}.{at}.img", self.chance.randint(10**6, 9 * 10**7))
                for at in range(30, 30 + self.chance.randint(0, 2))
            ]
            files.append(("main.cfg", self.chance.randint(900, 99_999)))
            capacity = self.chance.randint(2 * 10**8, 9 * 10**8)
            unit.volumes[volume] = (capacity, self.chance.randint(10**6, 10**8), files)
        places = [
            f"{volume}:{path}"
            for volume, (_, _, files) in unit.volumes.items()
            for path, _ in files
            if path.endswith(".img")
        ]
        unit.live = self.chance.sample(places, self.chance.randint(1, min(3, len(places))))
        unit.live.sort(key=lambda place: self.version not in place)
        if self.version not in unit.live[0]:
            unit.live[0] = places[0]
        unit.saved = self.chance.sample(places, self.chance.randint(1, min(3, len(places))))
        return unit

    def _say(self, line=""):
        self.lines.append(line)

    def _ask(self, typed):
        self.lines.append(f"{self.prompt}{typed}")

    def _mark(self, name, value, *, once=None, means=None):
        """A value with its mark, where that was not marked by now."""
        if once is not None and once in self.marked:
            return value
        if once is not None:
            self.marked.add(once)
        return f"<<{name}{f'({means})' if means else ''}={value}>>"

    def _row(self, key, cells):
        """The cells of a row, marked in the first row of its table only; their plain texts."""
        first = key not in self.marked
        self.marked.add(key)
        return [(text, f"<<{name}={text}>>" if first and name else text) for name, text in cells]

    def _table(self, key, heads, rows, *, head=True):
        """Rows in columns, numbers to the right."""
        plain = [[text for _, text in row] for row in rows]
        widths = [
            max(len(row[at]) for row in [heads, *plain]) + self.chance.choice([0, 2])
            for at in range(len(heads))
        ]
        gap = "  "

        def put(text, shown, at):
            blanks = " " * (widths[at] - len(text))
            return blanks + shown if text.isdigit() and len(text) > 1 else shown + blanks

        if head:
            self._say(gap.join(put(h, h, at) for at, h in enumerate(heads)).rstrip())
        for row in rows:
            cells = self._row(key, row)
            self._say(gap.join(put(t, s, at) for at, (t, s) in enumerate(cells)).rstrip())

    # -- what is said

    def _about(self):
        self._ask("about")
        model, version = (
            self._mark("model", self.model),
            self._mark("running.version", self.version),
        )
        how = self._pick("about", "labels", "dots", "sentence")
        if how == "sentence":
            self._say(f"This is a {model} that runs {version}.")
            return
        for label, value in (("Model", model), ("Image version", version), ("Fans", "2 of 2")):
            said = (
                f"{label}: {value}"
                if how == "labels"
                else f"{label} {'.' * (20 - len(label))} {value}"
            )
            self._say(said)

    def _heading(self, name, value, *, key=None, before="", behind=""):
        return f"{before}{self._mark(name, value, once=key or ('heading', name, before))}{behind}"

    def _volumes(self):
        self._ask("room")
        how = self._pick("volumes", "table", "blocks")
        where = self._pick("volume-member", "column", "heading") if self.several else "none"
        if where == "column" and how == "blocks":
            where = "heading"
        rows = []
        for unit in self.units:
            if where == "heading":
                if self.lines[-1] != f"{self.prompt}room":
                    self._say()
                self._say(self._heading("volume.member", unit.id, before="Unit ", behind=":"))
            rows = rows if where == "column" else []
            for name, (capacity, free, _) in unit.volumes.items():
                cells = [("volume.volume", name), ("capacity", str(capacity)), ("free", str(free))]
                if how == "table":
                    rows.append(
                        [*([("volume.member", unit.id)] if where == "column" else []), *cells]
                    )
                    continue
                self._say(f"Drive {self._mark('volume.volume', name, once='drive')}")
                self._say(f"  size  {self._mark('capacity', str(capacity), once='size')} bytes")
                self._say(f"  free  {self._mark('free', str(free), once='free')} bytes")
            heads = [*(["Unit"] if where == "column" else []), "Drive", "Bytes", "Free"]
            if how == "table" and where != "column":
                self._table("volumes", heads, rows)
        if where == "column":
            self._table("volumes", heads, rows)

    def _files(self):
        asked = not self.several and self._pick("files", "asked", "whole") == "asked"
        order = self._pick("file-cells", "size first", "path first")
        how = "asked" if asked else self._pick("file-volume", "heading", "footer", "column")
        heading = self.chance.choice([("Drive ", ":"), ("Directory of ", ":/"), ("== ", " ==")])
        total = self._pick("total", "none", "below", "below")
        if not asked:
            self._ask("files")
        rows = []
        for unit in self.units:
            if self.several and how != "column":
                self._say(self._heading("file.member", unit.id, before="Files of unit "))
            for name, (_, _, files) in unit.volumes.items():
                if asked:
                    self._ask(f"files {name}")
                if how == "heading":
                    before, behind = heading
                    self._say(self._heading("file.volume", name, before=before, behind=behind))
                part = []
                for path, size in files:
                    cells = [("size", str(size)), ("path", path)]
                    if order == "path first":
                        cells.reverse()
                    if how == "column":
                        cells = [("file.volume", name), *cells]
                        if self.several:
                            cells = [("file.member", unit.id), *cells]
                    part.append(cells)
                rows += part
                if how != "column":
                    heads = ["Bytes", "Name"] if order == "size first" else ["Name", "Bytes"]
                    self._table("files", heads, part, head=how != "footer")
                if total == "below" and how == "asked":
                    self._say(f"{len(files)} files, {sum(s for _, s in files)} bytes in all")
                if how == "footer":
                    told = self._mark("file.volume", name, once="footer")
                    self._say(f"{len(files)} files on {told}")
                    self._say()
        if how == "column":
            heads = ["Bytes", "Name"] if order == "size first" else ["Name", "Bytes"]
            heads = [*(["Unit"] if self.several else []), "Drive", *heads]
            self._table("files", heads, rows)

    def _order(self):
        how = self._pick(
            "order", "two commands", "headings", "headings", "row labels", "footers", "not marked"
        )
        words = self.chance.choice(
            [("Now", "At the next start"), ("Boot order in force", "Boot order as saved"),
             ("live", "stored"), ("ACTIVE LIST", "SAVED LIST"), ("running", "startup")]
        )  # fmt: skip
        shape = self._pick("order-rows", "numbered", "bare", "then", "label")
        behind = self.chance.choice(["", ":", " is"]) if how == "headings" else ""
        ruled = how == "headings" and self.chance.random() < 0.3
        indent = self.chance.choice(["", "  "])
        blank = self.chance.random() < 0.5

        def rows(places, key, front=""):
            for at, place in enumerate(places):
                told = self._mark("place", place, once=key)
                self._say(
                    {
                        "numbered": f"{indent}{front}{at + 1}  {told}",
                        "bare": f"{indent}{front}{told}",
                        "then": f"{indent}{front}entry {at + 1} is {told}",
                        "label": f"{indent}{front}image: {told}",
                    }[shape]
                )

        lists = [("live", words[0]), ("saved", words[1])]
        if self.chance.random() < 0.4:
            lists.reverse()
        if how == "two commands":
            for which, _ in lists:
                self._ask(f"order {self._mark('list', which, once=which, means=which)}")
                for unit in self.units:
                    if self.several:
                        self._say(
                            self._heading("order.member", unit.id, before="Unit ", key=("o", which))
                        )
                    rows(getattr(unit, which), ("rows", which))
            return
        self._ask("order")
        for unit in self.units:
            if self.several:
                self._say(self._heading("order.member", unit.id, before="Unit "))
            for which, word in lists:
                places = getattr(unit, which)
                said = self._mark("list", word, once=which, means=which)
                if how in ("headings", "not marked"):
                    self._say(f"{said if how == 'headings' else word}{behind}")
                    if ruled:
                        self._say("-" * len(word))
                    rows(places, "rows")
                elif how == "footers":
                    rows(places, "rows")
                    self._say(f"That is the list: {said}")
                else:
                    for place in places:
                        once = ("row label", which)
                        first = once not in self.marked
                        self.marked.add(once)
                        word_ = word.replace(" ", "-")
                        cells = f"<<list({which})={word_}>>" if first else word_
                        told = f"<<place={place}>>" if first else place
                        self._say(f"{indent}{cells}  {told}")
                if blank and how != "footers":
                    self._say()

    def _digests(self):
        if self.units[0].banks:
            return
        unit, volume = self.units[0], self.names[0]
        path = unit.volumes[volume][2][0][0]
        how = self._pick("digest", "line", "alone", "wrapped")
        algorithms = self.chance.choice([("sha512", "md5"), ("md5",), ("sha256", "md5")])
        for algorithm in algorithms:
            length = {"sha512": 128, "sha256": 64, "md5": 32}[algorithm]
            digest = "".join(self.chance.choices("0123456789abcdef", k=length))
            self._ask(f"sum {algorithm} {volume}:{path}")
            if how == "wrapped" and length > 64:
                self._say(self._mark(algorithm, digest[:64]))
                self._say(digest[64:])
            else:
                told = self._mark(algorithm, digest)
                self._say(told if how == "alone" else f"The sum of {path} is {told}")
            self.digests.setdefault((unit.id, volume, path), {})[algorithm] = digest

    def _banks(self):
        self.traits.append("banks")
        for unit in self.units:
            unit.live, unit.saved = [], []
            unit.banks = {
                name: (f"{self.chance.randint(1, 9)}.{self.chance.randint(0, 20)}", state)
                for name, state in (("A", "good"), ("B", self.chance.choice(["good", "broken"])))
            }
            unit.live_bank, unit.saved_bank = self.chance.choice("AB"), self.chance.choice("AB")
        self._ask("banks")
        words = self._pick("bank-halves", "sentence", "labels", "sections")
        for unit in self.units:
            if self.several:
                self._say(self._heading("bank.member", unit.id, before="Unit "))
            rows = []
            for name, (version, state) in unit.banks.items():
                rows.append([("bank", name), ("bank.version", version), ("bank.state", state)])
            self._bank_table(rows)
        self._ask("starts")
        for unit in self.units:
            if self.several:
                self._say(self._heading("boot.member", unit.id, before="Unit ", key="boot member"))
            live = self._mark("default_bank.live", unit.live_bank, once="live bank")
            saved = self._mark("default_bank.saved", unit.saved_bank, once="saved bank")
            if words == "sections":
                halves = [("Running settings:", live), ("Saved settings:", saved)]
                for heading, bank in halves if self.chance.random() < 0.6 else halves[::-1]:
                    self._say(heading)
                    self._say(f"  boot bank: {bank}")
                    self._say("  timeout: 5 s")
            elif words == "sentence":
                self._say(f"It runs bank {live}; at the next start it takes bank {saved}.")
            else:
                self._say(f"Bank in use: {live}")
                self._say(f"Bank to boot: {saved}")

    def _bank_table(self, rows):
        self._say("Bank  Version  State")
        for row in rows:
            (_, name), (_, version), (_, state) = row
            means = {"good": "ok", "broken": "bad"}[state]
            once = ("state", state)
            if once in self.marked:
                self._say(f"{name:4}  {version:7}  {state}")
                continue
            self.marked.add(once)
            pad = " " * (7 - len(version))
            self._say(
                f"<<bank={name}>>     <<bank.version={version}>>{pad}  "
                f"<<bank.state({means})={state}>>"
            )

    @property
    def facts(self):
        """What is to come out: by member, volumes, files, banks and what starts."""
        found = {}
        for unit in self.units:
            one = {
                "volumes": {
                    name: (capacity, free, sorted(files))
                    for name, (capacity, free, files) in unit.volumes.items()
                }
            }
            if unit.banks:
                means = {"good": "ok", "broken": "bad"}
                one["banks"] = {n: (v, means[s]) for n, (v, s) in unit.banks.items()}
                one["starts"] = (unit.live_bank, unit.saved_bank)
            else:
                one["order"] = (unit.live, unit.saved)
            found[unit.id] = one
        return self.model, self.version, found, self.digests


def facts_of(device):
    """What was read of a device, in the shape of `Made.facts`."""
    found = {}
    for member in device.members or ():
        volumes = {
            volume.name: (
                volume.capacity,
                volume.free,
                sorted((file.path, file.size) for file in volume.files or ()),
            )
            for volume in member.volumes or ()
        }
        one = {"volumes": volumes}
        boot = member.boot
        if member.banks:
            one["banks"] = {bank.name: (bank.version, bank.state) for bank in member.banks}
            chosen = boot.default_bank if boot is not None else None
            one["starts"] = (chosen.live, chosen.saved) if chosen is not None else None
        else:
            order = boot.order if boot is not None else None

            def places(entries):
                return None if entries is None else [str(each.place) for each in entries]

            one["order"] = (places(order.live), places(order.saved)) if order else None
        found[member.id] = one
    running = device.running.version if device.running else None
    digests = {
        (member.id, volume.name, file.path): {str(name): each for name, each in file.digests}
        for member in device.members or ()
        for volume in member.volumes or ()
        for file in volume.files or ()
        if file.digests
    }
    return device.hardware.model if device.hardware else None, running, found, digests
