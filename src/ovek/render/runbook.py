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
        return f"no runbook yet: facts are missing. {one.find_out[0]}"
    number = len(one.done) + len(one.left)
    stages = f"{len(one.done)} of {count(number, 'stage')} done"
    if not one.steps:
        whole = "nothing left to do" if not one.open else "no steps left, but see OPEN PROBLEMS"
        return f"{whole} ({stages})." if number else f"{whole}."
    return (
        f"{count(len(one.steps), 'step')} left ({stages}), {count(one.reloads, 'reload')}, "
        f"{took(one)}. Next: {_lower(one.steps[0].words)}."
    )


def safe(runbook: Runbook) -> str:
    """What is said once of a plan that no power failure harms; empty: there is danger, or none."""
    if runbook.danger or not runbook.steps:
        return ""
    if runbook.next_boot == "proven":
        return "A power failure is safe during every step."
    return "A power failure during any step leaves the next boot no worse than it is now."


def took(runbook: Runbook) -> str:
    """How long all changes take, as far as it is known."""
    if not runbook.minutes and runbook.untimed:
        return "duration unknown"
    text = f"about {show_minutes(runbook.minutes)}" if runbook.minutes else "under a minute"
    return (
        f"{text} plus {count(runbook.untimed, 'step')} of unknown duration"
        if runbook.untimed
        else text
    )


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def stands(runbook: Runbook) -> str:
    """What is wanted, how the device stands and how it would in the end."""
    wants = f"target {runbook.target}; " if runbook.target else "no target; "
    now = f"next boot now: {_boots(runbook.boots, runbook.next_boot)}"
    if not runbook.steps:
        return wants + now
    return f"{wants}{now}; after all steps: {_boots(runbook.boots_after, runbook.next_boot_after)}"


def _boots(boots: str | None, reload: str) -> str:
    """What boots next, and whether it is proven."""
    name = boots or ("none" if reload == "stranded" else "unknown")
    return name if name == reload else f"{name} ({reload})"


def runbooks(result: FleetRunbooks, view: View) -> Iterator[Line]:
    """Go through one device, change by change; of many a line each."""
    if len(result.devices) == len(result.answered) == 1:
        yield from hanging("", of_one(result.answered[0]), indent=0)
        yield from _runbook(result.devices[0])
    else:
        yield from _fleet(result, whole=view.verbose)


def _runbook(runbook: Runbook) -> Iterator[Line]:
    yield from hanging("  ", headline(runbook), indent=2)
    if runbook.danger:
        yield from hanging("  DANGER: ", danger_of(runbook.danger), indent=10, style="bold red")
    if told := safe(runbook):
        yield from hanging("  ", told, indent=2)
    yield from hanging("  ", stands(runbook), indent=2)
    for name in runbook.server:
        told = f"the shelf has no proven copy of {name}; see ovek shelf before you copy it"
        yield from hanging("  server copy: ", told, indent=15)
    for told in runbook.find_out if runbook.steps or len(runbook.find_out) > 1 else ():
        yield from hanging("  find out: ", told, indent=12)
    for number, step in enumerate(runbook.steps, 1):
        yield ""
        yield from hanging(f"  {number:>2}. {step.stage:<14}", step.words, indent=20, style="bold")
        for name, told in details(step):
            yield from hanging(f"      {name}: ", told, indent=20)
    if runbook.open:
        yield from ("", Text("  OPEN PROBLEMS (not fixed by a step above)", "bold"))
    for each in runbook.open:
        place = f"  {visible(each.place.rstrip(':'))}" if each.place else ""
        place += f" (member {visible(each.member)})" if each.member and not each.place else ""
        yield from hanging(f"    {each.rule}{place}: ", each.seen, indent=8)
        yield from hanging("        do:", each.words, indent=12)


def details(step: RunbookStep) -> Iterator[tuple[str, str]]:
    """What to type and to expect, what a power failure leaves, what undoes it, how long it takes.

    What is safe is not said: only steps in which a power failure leaves something else.
    """
    do = step.do
    for line in do.lines:
        yield "type", line
    if do.by_hand:
        yield (
            "type",
            "(no command shown: a name in it has unsafe characters; type it yourself with care)",
        )
    if do.tier is not None:
        frees = f"{show_mib(do.frees)}, " if do.frees is not None else ""
        yield "frees", f"{frees}tier {do.tier}: {do.why}"
    if do.algorithm is not None:
        yield "expect", f"{TITLES[do.algorithm]} {do.digest}"
    room = f"{show_mib(step.free)} free; " if step.free is not None else ""
    yield "expect", f"{room}next boot: {_boots(do.boots, do.next_boot)}"
    for bring in step.brings:
        yield "also", bring
    if do.harm:
        yield "DANGER", f"if the power fails: {'; '.join(do.harm)}"
    elif step.cut is not None:
        cut = f"the step is half done; next boot: {_boots(step.cut.boots, step.cut.next_boot)}"
        yield "power failure", cut
    yield "undo", "; ".join(step.undo) or _no_undo(step)
    yield "takes", "unknown" if do.minutes is None else show_minutes(do.minutes)


_NO_UNDO: dict[ChangeKind, str] = {
    "check-digest": "not needed",
    "back-up": "not needed",
    "heed-config": "not needed",
    "save": "restore the previous settings, and save again",
    "reload": "put the previous image first in the boot order, save, and reload",
    "set-order": "not needed: the previous setting names something that does not boot",
    "delete": "copy the file back from a backup",
    "load-component": "install the previous firmware from its own image",
}


def _no_undo(step: RunbookStep) -> str:
    """What to say where no change undoes one."""
    return _NO_UNDO.get(step.do.change, "not possible")


def _fleet(result: FleetRunbooks, *, whole: bool) -> Iterator[Line]:
    """Go through many devices, a line each; change by change where the `whole` is asked for."""
    found, unread = result.devices, Unreads(result.not_read, result.as_of)
    yield from first_lines(result.answered, result, whole=whole)
    yield from hanging("", summary(found, unread), indent=0)
    if found:
        yield ""
        yield from table(
            ("DEVICE", "ANSWER", "TARGET", "DONE", "STEPS LEFT", "RELOADS", "TIME", "NEXT STEP"),
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


def _answer(runbook: Runbook) -> Answered:
    """The answer of a device as it stands."""
    return Answered(device=runbook.device, answer=runbook.answer or "unclear", detail=runbook.why)


def _waves(waves: Waves) -> Iterator[Line]:
    """When who reloads together, and who fits into no wave."""
    if len(waves.waves) > 1 or waves.misfits:
        yield from ("", Text("WAVES", "bold"))
        text = (
            "Steps that need no reload can be done beforehand. Start a wave only when every device "
        )
        text += (
            "of the previous wave runs its target, proven. Rollback: put the previous image first "
        )
        text += "in the boot order and reload."
        yield from hanging("  ", text, indent=2)
    for wave in waves.waves if len(waves.waves) > 1 or waves.misfits else ():
        yield from hanging(f"  {wave.number:>2}. ", told_wave(wave, waves.waves), indent=6)
    for misfit in waves.misfits:
        yield from hanging("   - ", f"{misfit.device}: not scheduled: {misfit.why}", indent=6)


def told_wave(wave: Wave, waves: Sequence[Wave]) -> str:
    """One wave in a sentence: when, how long, who."""
    begins = f", first on {wave.begins:%a %Y-%m-%d %H:%M}" if wave.begins is not None else ""
    more = " or more" if wave.untimed else ""
    takes = "duration unknown" if wave.untimed and not wave.minutes else show_minutes(wave.minutes)
    canaries = "canaries, " if wave.group == "canaries" else ""
    names = ", ".join(visible(name) for name in wave.devices)
    took_ = takes + (more if wave.minutes else "")
    text = (
        f"{canaries}{wave.window}{begins}: {count(len(wave.devices), 'device')}, {took_}: {names}"
    )
    if wave.danger:
        text += f"; DANGER on {', '.join(visible(name) for name in wave.danger)}"
    last = next((one for one in waves if one.number == wave.number - 1), None)
    return text + (f"; {last.no_date}" if last is not None and last.no_date else "")


def summary(found: Sequence[Runbook], unread: Unreads) -> str:
    """How many devices are done, have something left, or have to be found out about first."""
    asks = sum(bool(one.find_out) and not one.steps for one in found)
    left = sum(bool(one.steps) for one in found)
    opens = sum(bool(one.open) and not one.steps and not one.find_out for one in found)
    done, missed = len(found) - left - asks - opens, len(unread.devices)
    parts = [
        f"{left} {'has' if left == 1 else 'have'} steps left",
        f"{done} {'needs' if done == 1 else 'need'} none",
    ]
    if opens:
        parts.append(f"{opens} {'has' if opens == 1 else 'have'} problems that no step fixes")
    parts += [f"{asks} {'is' if asks == 1 else 'are'} missing facts"] if asks else []
    parts += [f"{missed} {'was' if missed == 1 else 'were'} not read"] if unread else []
    return f"{count(len(found) + missed, 'device')}: {', '.join(parts)}."


def _row(runbook: Runbook) -> tuple[str, ...]:
    number = len(runbook.done) + len(runbook.left)
    stages = f"{len(runbook.done)} of {number}" if number else "-"
    front = (visible(runbook.device), Toned(runbook.answer or "unclear"), runbook.target or "-")
    if runbook.find_out and not runbook.steps:
        return (*front, "-", "-", "-", "-", "read the device again")
    if not runbook.steps:
        nothing = "none" if not runbook.open else f"decide: {runbook.open[0].rule}"
        return (*front, stages, "0", "0", "-", nothing)
    takes = show_minutes(runbook.minutes) + ("+" if runbook.untimed else "")
    takes = takes if runbook.minutes or not runbook.untimed else "unknown"
    row = (*front, stages, str(len(runbook.steps)), str(runbook.reloads))
    warning = f"; DANGER in {which_of(runbook.danger)}" if runbook.danger else ""
    return (*row, takes, visible(runbook.steps[0].words) + warning)


def checklist(result: FleetRunbooks, view: View) -> Iterator[bytes]:
    """Write runbooks as a checklist: the answer, the waves, then a device after another."""
    found, waves = result.devices, result.planned
    answers = [_answer(one) for one in found]
    lines = ["# Runbook", "", f"**{escaped(first_line(answers, result))}**", ""]
    lines += [f"- **{one.answer}** {escaped(f'{one.device}: {one.detail}')}"
              for one in (held_back(answers) if len(answers) > 1 else ())]  # fmt: skip
    lines += ["", f"{escaped(told_context(result))}.", ""]
    lines += [
        "Ovek only plans; you make the changes. If a step does not give what is expected, stop,"
    ]
    lines += [
        "read the device again (ovek survey) and run this again: done steps disappear.",
        "",
    ]
    if len(waves.waves) > 1 or waves.misfits:
        lines += ["## Waves", ""]
        for wave in waves.waves:
            lines += [f"- [ ] {wave.number}. {escaped(told_wave(wave, waves.waves))}"]
            lines += [f"  - precondition: {escaped(wave.before)}"]
        for misfit in waves.misfits:
            lines.append(f"- not scheduled: {escaped(f'{misfit.device}: {misfit.why}')}")
        lines.append("")
    for one in found:
        said = headline(one)
        lines += [f"## {escaped(one.device)}", "", f"{escaped(of_device(one))}.", ""]
        lines += [escaped(said[:1].upper() + said[1:]), ""]
        lines += [f"{escaped(stands(one)[:1].upper() + stands(one)[1:])}.", ""]
        lines += [f"**DANGER: {escaped(danger_of(one.danger))}.**", ""] if one.danger else []
        lines += [safe(one), ""] if safe(one) else []
        lines += [
            f"- server copy: no proven copy of {escaped(name)} on the shelf" for name in one.server
        ]
        lines += [f"- find out: {escaped(told)}" for told in one.find_out]
        lines += [line for step in one.steps for line in box(step)]
        lines += ["", "Open problems (not fixed by a step above):", ""] if one.open else []
        lines += [
            f"- {misfit.rule}: {escaped(misfit.seen)} — {escaped(misfit.words)}"
            for misfit in one.open
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
    for device in result.devices:
        number = len(device.done) + len(device.not_done)
        text = f"{len(device.done)} of {count(number, 'change')} done"
        text += ", and unplanned changes" if device.too_much else ""
        yield from hanging(
            f"{visible(device.device)}: ", f"{text}; next boot {device.next_boot}.", indent=2
        )
        for mark, lines in (
            ("done", device.done),
            ("NOT", device.not_done),
            ("UNPLANNED", device.too_much),
        ):
            for line in lines:
                yield from hanging(f"  {mark:<9} ", line, indent=12)
    for name in result.not_there:
        yield f"{visible(name)}: not in the later snapshot"
