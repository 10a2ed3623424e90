"""Cleanup plans as checklists in Markdown: one box a step, what to type, what to expect."""

import re
from collections.abc import Sequence

from ovek.model.context import Context
from ovek.model.plan import CleanupPlan, Step
from ovek.model.size import show_mib
from ovek.render.cleanup import names_of, power_cut, verdict_of
from ovek.render.context import of_device
from ovek.render.context import told as told_context
from ovek.render.markdown import escaped
from ovek.render.steps import by_hand, lost_of, words_of
from ovek.render.unread import Unreads, why
from ovek.render.visible import visible


def checklist(
    plans: Sequence[CleanupPlan], context: Context, unread: Unreads | None = None
) -> bytes:
    """Write every plan, and which devices have none since they were not read."""
    lines = ["# Cleanup checklist", "", f"{escaped(told_context(context))}.", ""]
    lines += ["Ovek planned this and does nothing itself. Stop where a step does not come out as"]
    lines += ["expected, read the device again, and plan again.", ""]
    for plan, name in zip(plans, names_of(plans), strict=True):
        lines += [f"## {escaped(name)} {escaped(verdict_of(plan))}", ""]
        lines += [f"{escaped(of_device(plan))}.", ""]
        if plan.free is not None and plan.free_after is not None:
            told = f"Free now {show_mib(plan.free)}, wanted {show_mib(plan.wanted)}, after "
            lines += [f"{told}{show_mib(plan.free_after)}.", ""]
        if not plan.enough:
            lines += [f"- {escaped(way)}" for way in plan.ways]
            lines += ["Do not start: this is not enough.", ""]
            continue
        if plan.way:
            lines += [f"Way: {escaped(plan.way)}.", ""]
        if plan.lost is not None:
            lines += [f"Overwritten: {escaped(lost_of(plan.lost))}.", ""]
        if plan.steps:
            lines += [f"If the power fails halfway: {escaped(power_cut(plan))}.", ""]
        for number, step in enumerate(plan.steps, 1):
            lines += _box(number, step, plan)
        lines += [""]
    if unread:
        lines += ["## Not read", ""]
        lines += [f"- {escaped(f'{o.device}: {why(o, unread.now)}')}" for o in unread.devices]
    return ("\n".join(lines).rstrip() + "\n").encode("utf-8", "backslashreplace")


def _box(number: int, step: Step, plan: CleanupPlan) -> list[str]:
    expected = f"next start: {step.starts or 'nothing'} ({step.reload})"
    if step.free is not None:
        expected = f"{show_mib(step.free)} free, {expected}"
    told = [f"- [ ] {number}. {escaped(words_of(step, plan))}"]
    if step.line is not None:
        fence = _fence(step.line)
        told += ["", f"  {fence}", f"  {visible(step.line)}", f"  {fence}", ""]
    elif step.by_hand:
        told += [f"  - type {escaped(by_hand(step, plan))}."]
    now = "before it is done" if step.kind in ("copy", "write-bank") else "now"
    harm = "" if step.safe else f" **A power cut {now} leaves it worse than it was.**"
    return [*told, f"  - expected after it: {escaped(expected)}.{harm}"]


def _fence(line: str) -> str:
    """A fence that no backticks of a sheet's own wording leave."""
    longest = max((len(run) for run in re.findall("`+", line)), default=0)
    return "`" * max(3, longest + 1)
