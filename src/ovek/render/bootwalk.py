"""The boot walk, for a terminal: the answer, then a tree of candidates for each device."""

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text
from rich.tree import Tree

from ovek.model.digest import TITLES
from ovek.model.results.figures import WalkFigure
from ovek.model.results.walks import FleetWalks
from ovek.model.walk import BROKEN, GOES_ON, Candidate, DeviceWalk, MemberWalk
from ovek.render.answer import answers, first_line
from ovek.render.lines import STYLES
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible


def bootwalk(result: FleetWalks, view: View) -> Iterator[RenderableType]:
    """Go through what is to be shown: the answer, then a tree a device, then who was not read."""
    supposed, answered = result.supposed, result.answered
    front = f"If {' and '.join(map(visible, supposed))} — " if supposed else ""
    held = () if len(answered) == 1 else answered
    yield from answers(front + first_line(answered, result), held, whole=view.verbose)
    as_is = {walk.device: walk for walk in result.as_it_is}
    for walk in result.devices:
        yield Text()
        yield _tree(walk, as_is.get(walk.device))
    yield from Unreads(result.not_read, result.as_of).lines()


def paths(figure: WalkFigure, view: View) -> Iterator[RenderableType]:
    """Go through the lines of some walks, each with what is taken to be so above it."""
    for supposed, walk in figure.walks:
        yield Text(f"{visible(walk.device)}, {visible(supposed)}:", "bold")
        yield _tree(walk, None)
        yield ""


def summary_of(walk: DeviceWalk) -> str:
    """What the device starts, and whether that is what runs."""
    texts = list(dict.fromkeys(starts_of(member) for member in walk.members))
    if len(texts) == 1:
        told = texts[0]
    elif walk.members_differ:
        told = "members boot different versions"
    else:
        told = "see each member" if texts else "its members are unknown"
    if walk.running is not None:
        told += f"; running {visible(walk.running)}"
        if walk.changes:
            told += ", so a reload changes the version"
    return told


def starts_of(member: MemberWalk) -> str:
    """What a member starts, in words."""
    boots = member.boots
    if boots is None:
        return "no bootable image" if member.outcome == "stranded" else "next boot unknown"
    version = f"{visible(boots.version)} " if boots.version else ""
    proof = f"proven by {TITLES[boots.by]}" if boots.by else "unproven"
    return f"next boot {version}from {visible(boots.place)}, {proof}"


def _tree(walk: DeviceWalk, as_is: DeviceWalk | None) -> Tree:
    label = Text.assemble(
        (visible(walk.device), "bold"), " ", (walk.next_boot, STYLES[walk.next_boot])
    )
    tree = Tree(label.append(f": {summary_of(walk)}"), guide_style="dim")
    if as_is is not None:
        answer = f"{as_is.answer}, " if as_is.answer != walk.answer else ""
        tree.add(
            Text(f"without the what-if: {answer}{as_is.next_boot}, {summary_of(as_is)}", "dim")
        )
    for member in walk.members:
        branch = tree
        if len(walk.members) > 1:
            name = Text.assemble(
                f"member {visible(member.member)} ", (member.outcome, STYLES[member.outcome])
            )
            branch = tree.add(name.append(f": {starts_of(member)}"))
        if member.from_ == "live":
            branch.add(Text("saved boot settings unknown; the live ones are used here", "yellow"))
        for number, candidate in enumerate(member.tried, 1):
            branch.add(_candidate(number, candidate))
        if member.outcome in ("stranded", "unknown"):
            branch.add(Text(visible(member.note), STYLES[member.outcome]))
        for image in member.rescue:
            text = f"recover: boot {visible(image.place)}"
            branch.add(
                Text(
                    f"{text} ({visible(image.version or 'version unknown')}, {image.verdict}) "
                    "by hand at the "
                    "boot loader"
                )
            )
        if member.outcome == "stranded" and not member.rescue:
            branch.add(
                Text("recover: no bootable image on this device; bring a proven image on a stick")
            )
    return tree


def falls(candidate: Candidate) -> bool:
    """Whether the loader does not start from it, and goes on or stops there."""
    return candidate.result in GOES_ON or candidate.result in BROKEN


def result_of(candidate: Candidate) -> str:
    """What comes of trying it, in words."""
    if candidate.result == "remote":
        return "boots from a server"
    verb = "is" if falls(candidate) or candidate.result == "unknown" else "boots,"
    return f"{verb} {candidate.result}"


def _candidate(number: int, candidate: Candidate) -> Text:
    style = "red" if falls(candidate) else STYLES.get(candidate.result, "yellow")
    line = Text(f"{number}. {candidate.origin}: {visible(candidate.place)} ")
    return line.append(result_of(candidate), style).append(f": {visible(candidate.why)}")
