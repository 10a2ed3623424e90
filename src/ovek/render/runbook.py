"""Runbooks in a terminal, and as checklists in Markdown: one box a change."""

import re
from collections.abc import Iterator, Sequence

from rich.text import Text

from ovek.model.age import show_minutes
from ovek.model.answer import Answered
from ovek.model.change import ChangeKind
from ovek.model.digest import TITLES
from ovek.model.results.runbooks import FleetRunbooks, RunbooksFollowed, SharedLink
from ovek.model.runbook import Runbook, RunbookStep, Wave, Waves
from ovek.model.size import show_mib
from ovek.render.answer import first_line, first_lines, held_back, of_one
from ovek.render.context import of_device
from ovek.render.context import told as told_context
from ovek.render.lines import Line, Toned, count, hanging, table
from ovek.render.markdown import escaped
from ovek.render.steps import danger_of, which_of
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible


def headline(one: Runbook) -> str:
    """Where a device stands, in one sentence behind its name."""
    if one.find_out and not one.steps:
        return f"nothing is planned yet; first find out: {one.find_out[0]}"
    number = len(one.done) + len(one.left)
    stages = f"{len(one.done)} of {number} stages done"
    if not one.steps:
        whole = "nothing is left to do" if not one.open else "no step of the device is left to do"
        return f"{whole} ({stages})." if number else f"{whole}."
    return (
        f"{stages}; {count(len(one.steps), 'step')} left, {took(one)}, "
        f"{count(one.reloads, 'reload')}; next: {_lower(one.steps[0].words)}."
    )


def safe(one: Runbook) -> str:
    """What is said once of a plan that no power failure harms; empty: there is danger, or none."""
    if one.danger or not one.steps:
        return ""
    if one.reload == "proven":
        return "A power failure is safe during every step."
    return "A power failure during any step leaves the next boot no worse than it is now."


def took(one: Runbook) -> str:
    """How long all changes take, as far as it is known."""
    if not one.minutes and one.untimed:
        return "of unknown length"
    told = f"about {show_minutes(one.minutes)}" if one.minutes else "under a minute"
    return f"{told} and {one.untimed} of unknown length" if one.untimed else told


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def stands(one: Runbook) -> str:
    """What is wanted, how the device stands and how it would in the end."""
    wants = f"wants {one.wants}; " if one.wants else "no release is wanted; "
    now = f"next boot now: {one.starts or 'nothing'} ({one.reload})"
    if not one.steps:
        return wants + now
    return f"{wants}{now}; in the end: {one.starts_after or 'nothing'} ({one.reload_after})"


def runbooks(result: FleetRunbooks, view: View) -> Iterator[Line]:
    """Go through one device, change by change; of many a line each."""
    if len(result.devices) == len(result.answered) == 1:
        yield from hanging("", of_one(result.answered[0]), indent=0)
        yield from _runbook(result.devices[0])
    else:
        yield from _fleet(result, whole=view.verbose)


def _runbook(one: Runbook) -> Iterator[Line]:
    yield from hanging("  ", headline(one), indent=2)
    if one.danger:
        yield from hanging("  DANGER: ", danger_of(one.danger), indent=10, style="bold red")
    if told := safe(one):
        yield from hanging("  ", told, indent=2)
    yield from hanging("  ", stands(one), indent=2)
    for name in one.server:
        told = f"the shelf has no proven copy of {name}; see ovek shelf before you copy it"
        yield from hanging("  server copy: ", told, indent=15)
    for told in one.find_out if one.steps or len(one.find_out) > 1 else ():
        yield from hanging("  find out: ", told, indent=12)
    for number, step in enumerate(one.steps, 1):
        yield ""
        yield from hanging(f"  {number:>2}. {step.stage:<14}", step.words, indent=20, style="bold")
        for name, told in details(step):
            yield from hanging(f"      {name}: ", told, indent=20)
    if one.open:
        yield from ("", Text("  LEFT OPEN", "bold"))
    for each in one.open:
        place = f"  {visible(each.place.rstrip(':'))}" if each.place else ""
        place += f" (member {visible(each.member)})" if each.member and not each.place else ""
        yield from hanging(f"    {each.rule}{place}: ", each.saw, indent=8)
        yield from hanging("        do:", each.words, indent=12)


def details(step: RunbookStep) -> Iterator[tuple[str, str]]:
    """What to type and to expect, what a power failure leaves, what undoes it, how long it takes.

    What is safe is not said: only steps in which a power failure leaves something else.
    """
    do = step.do
    for line in do.lines:
        yield "type", line
    if do.by_hand:
        yield "type", "nothing: a name in this line is not safe to type; do it by hand"
    if do.tier is not None:
        frees = f"{show_mib(do.frees)}, " if do.frees is not None else ""
        yield "frees", f"{frees}tier {do.tier}: {do.why}"
    if do.algorithm is not None:
        yield "expect", f"{TITLES[do.algorithm]} {do.digest}"
    room = f"{show_mib(step.free)} free; " if step.free is not None else ""
    yield "expect", f"{room}next boot: {do.starts or 'nothing'} ({do.reload})"
    for told in step.brings:
        yield "also", told
    if do.harm:
        yield "DANGER", f"if the power fails: {'; '.join(do.harm)}"
    elif step.cut is not None:
        cut = f"half done; the next boot is {step.cut.starts or 'nothing'} ({step.cut.reload})"
        yield "if the power fails", cut
    yield "undo", "; ".join(step.undo) or _no_undo(step)
    yield "takes", "not known" if do.minutes is None else show_minutes(do.minutes)


_NO_UNDO: dict[ChangeKind, str] = {
    "check-digest": "nothing has to be undone",
    "back-up": "nothing has to be undone",
    "heed-config": "nothing has to be undone",
    "save": "set it back, and save again",
    "reload": "put what ran first again, save, and reload",
    "set-order": "not needed: what was set before names something that does not boot",
    "delete": "only a copy of it brings it back",
    "load-component": "load the firmware that was there, from its own image",
}


def _no_undo(step: RunbookStep) -> str:
    """What to say where no change undoes one."""
    return _NO_UNDO.get(step.do.change, "nothing undoes it")


def _fleet(result: FleetRunbooks, *, whole: bool) -> Iterator[Line]:
    """Go through many devices, a line each; change by change where the `whole` is asked for."""
    found, unread = result.devices, Unreads(result.not_read, result.as_of)
    yield from first_lines(result.answered, whole=whole)
    yield from hanging("", summary(found, unread), indent=0)
    if found:
        yield ""
        yield from table(
            ("DEVICE", "ANSWER", "TARGET", "DONE", "STEPS", "RELOADS", "TAKES", "NEXT"),
            [_row(one) for one in found],
            right=(4, 5),
            wrap={2: 6, 7: 30},
            whole=(1, 3, 6),
            least=(3, 5, 6),
        )
    yield from _waves(result.planned)
    for link in result.links:
        yield from hanging("   - ", _link(link), indent=6)
    yield from unread.lines()
    for one in found if whole else ():
        yield ""
        yield from hanging("", of_one(_answer(one)), indent=0)
        yield from _runbook(one)


def _link(link: SharedLink) -> str:
    """What is to be copied over a link that several devices share takes how long."""
    shared = f"the link of {link.name} is shared by {link.devices} devices"
    return f"{shared}: their copies take {show_minutes(link.minutes)}"


def _answer(one: Runbook) -> Answered:
    """The answer of a device as it stands."""
    return Answered(device=one.device, answer=one.answer or "unclear", detail=one.why)


def _waves(waves: Waves) -> Iterator[Line]:
    """When who reloads together, and who fits into no wave."""
    if len(waves.waves) > 1 or waves.misfits:
        yield from ("", Text("WAVES", "bold"))
        told = "What needs no reload may be done before. Each wave begins once the one before it "
        told += "runs what is wanted, proven; the way back: put what ran first again, and reload."
        yield from hanging("  ", told, indent=2)
    for wave in waves.waves if len(waves.waves) > 1 or waves.misfits else ():
        yield from hanging(f"  {wave.number:>2}. ", told_wave(wave, waves.waves), indent=6)
    for one in waves.misfits:
        yield from hanging("   - ", f"{one.device} fits into no wave: {one.why}", indent=6)


def told_wave(wave: Wave, waves: Sequence[Wave]) -> str:
    """One wave in a sentence: when, how long, who."""
    begins = f", first on {wave.begins:%a %Y-%m-%d %H:%M}" if wave.begins is not None else ""
    more = " and more" if wave.untimed else ""
    takes = "of unknown length" if wave.untimed and not wave.minutes else show_minutes(wave.minutes)
    canaries = "canaries, " if wave.group == "canaries" else ""
    names = ", ".join(visible(name) for name in wave.devices)
    took_ = takes + (more if wave.minutes else "")
    told = (
        f"{canaries}{wave.window}{begins}: {count(len(wave.devices), 'device')}, {took_}: {names}"
    )
    if wave.danger:
        told += f"; DANGER on {', '.join(visible(name) for name in wave.danger)}"
    last = next((one for one in waves if one.number == wave.number - 1), None)
    return told + (f"; {last.no_date}" if last is not None and last.no_date else "")


def summary(found: Sequence[Runbook], unread: Unreads) -> str:
    """How many devices are done, have something left, or have to be found out about first."""
    asks = sum(bool(one.find_out) and not one.steps for one in found)
    left = sum(bool(one.steps) for one in found)
    opens = sum(bool(one.open) and not one.steps and not one.find_out for one in found)
    told = [f"{left} with steps left", f"{len(found) - left - asks - opens} done"]
    told += [f"{opens} with what no step ends"] if opens else []
    told += [f"{asks} to find out about"] if asks else []
    told += [f"{len(unread.devices)} not read"] if unread else []
    return f"{count(len(found) + len(unread.devices), 'device')}: {', '.join(told)}."


def _row(one: Runbook) -> tuple[str, ...]:
    number = len(one.done) + len(one.left)
    stages = f"{len(one.done)} of {number}" if number else "-"
    front = (visible(one.device), Toned(one.answer or "unclear"), one.wants or "-")
    if one.find_out and not one.steps:
        return (*front, "-", "-", "-", "-", "find out what boots next")
    if not one.steps:
        nothing = "nothing" if not one.open else f"see {one.open[0].rule}"
        return (*front, stages, "0", "0", "-", nothing)
    takes = show_minutes(one.minutes) + (" +" if one.untimed else "")
    takes = takes if one.minutes or not one.untimed else "not known"
    row = (*front, stages, str(len(one.steps)), str(one.reloads))
    warning = f"; DANGER in {which_of(one.danger)}" if one.danger else ""
    return (*row, takes, visible(one.steps[0].words) + warning)


def checklist(result: FleetRunbooks, view: View) -> Iterator[bytes]:
    """Write runbooks as a checklist: the answer, the waves, then a device after another."""
    found, waves = result.devices, result.planned
    answers = [_answer(one) for one in found]
    lines = ["# Runbook", "", f"**{escaped(first_line(answers))}**", ""]
    lines += [f"- **{one.answer}** {escaped(f'{one.device}: {one.detail}')}"
              for one in (held_back(answers) if len(answers) > 1 else ())]  # fmt: skip
    lines += ["", f"{escaped(told_context(result))}.", ""]
    lines += ["Ovek planned this and does nothing itself. Stop where a step does not come out as"]
    lines += [
        "expected, read the device again, and ask again: what is done is not asked twice.",
        "",
    ]
    if len(waves.waves) > 1 or waves.misfits:
        lines += ["## Waves", ""]
        for wave in waves.waves:
            lines += [f"- [ ] {wave.number}. {escaped(told_wave(wave, waves.waves))}"]
            lines += [f"  - before it: {escaped(wave.before)}"]
        for each in waves.misfits:
            lines.append(f"- fits into no wave: {escaped(f'{each.device}: {each.why}')}")
        lines.append("")
    for one in found:
        said = headline(one)
        lines += [f"## {escaped(one.device)}", "", f"{escaped(of_device(one))}.", ""]
        lines += [escaped(said[:1].upper() + said[1:]), ""]
        lines += [f"{escaped(stands(one)[:1].upper() + stands(one)[1:])}.", ""]
        lines += [f"**DANGER: {escaped(danger_of(one.danger))}.**", ""] if one.danger else []
        lines += [safe(one), ""] if safe(one) else []
        lines += [f"- server copy: none of {escaped(name)} is proven" for name in one.server]
        lines += [f"- find out: {escaped(told)}" for told in one.find_out]
        lines += [line for step in one.steps for line in box(step)]
        lines += ["", "Left open:", ""] if one.open else []
        lines += [
            f"- {each.rule}: {escaped(each.saw)} — {escaped(each.words)}" for each in one.open
        ]
        lines.append("")
    yield ("\n".join(lines).rstrip() + "\n").encode("utf-8", "backslashreplace")


def box(step: RunbookStep) -> list[str]:
    """One step as a box to tick, with what to type and to expect."""
    lines = [f"- [ ] {step.do.number}. {escaped(step.words)} *({step.stage})*"]
    for name, told in details(step):
        if name == "type" and step.do.lines:
            lines += _typed(told)
        else:
            lines.append(f"  - {name}: {escaped(told)}")
    return lines


def _typed(line: str) -> list[str]:
    """A line to type, in a fence that nothing in it leaves."""
    longest = max((len(run) for run in re.findall("`+", line)), default=0)
    fence = "`" * max(3, longest + 1)
    return ["", f"  {fence}", f"  {visible(line)}", f"  {fence}", ""]


def followed(result: RunbooksFollowed, view: View) -> Iterator[Line]:
    """Go through what was done of each runbook, what was not, and what nobody asked for."""
    for one in result.devices:
        number = len(one.done) + len(one.not_done)
        told = f"{len(one.done)} of {number} changes done, {len(one.not_done)} not done"
        told += ", and something that nobody asked for" if one.too_much else ""
        yield from hanging(f"{visible(one.device)}: ", f"{told}; {one.reload} now.", indent=2)
        for mark, lines in (("done", one.done), ("NOT", one.not_done), ("TOO MUCH", one.too_much)):
            for line in lines:
                yield from hanging(f"  {mark:<9} ", line, indent=12)
    for name in result.not_there:
        yield f"{visible(name)}: it is not in the later snapshot"
