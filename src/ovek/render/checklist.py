"""Cleanup plans as checklists in Markdown: one box a step, what to type, what to expect."""

from collections.abc import Iterator

from ovek.model.results.cleanup import CleanupPlans
from ovek.model.size import show_mib
from ovek.render.cleanup import names_of, power_cut, verdict_of
from ovek.render.context import of_device
from ovek.render.context import told as told_context
from ovek.render.markdown import escaped
from ovek.render.runbook import box
from ovek.render.steps import lost_of
from ovek.render.unread import why
from ovek.render.view import View


def checklist(result: CleanupPlans, view: View) -> Iterator[bytes]:
    """Write every plan, and which devices have none since they were not read."""
    plans, unread = result.plans, result.not_read
    lines = ["# Cleanup checklist", "", f"{escaped(told_context(result))}.", ""]
    lines += [
        "Ovek only plans; you make the changes. If a step does not give what is expected, stop,"
    ]
    lines += ["read the device again (ovek survey) and plan again.", ""]
    for plan, name in zip(plans, names_of(plans), strict=True):
        lines += [f"## {escaped(name)} {escaped(verdict_of(plan))}", ""]
        lines += [f"{escaped(of_device(plan))}.", ""]
        if plan.free is not None and plan.free_after is not None:
            text = f"Free: {show_mib(plan.free)} now, {show_mib(plan.wanted)} needed, after "
            lines += [f"{text}{show_mib(plan.free_after)}.", ""]
        if not plan.enough:
            lines += [f"- {escaped(way)}" for way in plan.alternatives]
            lines += ["Do not begin: this is not enough.", ""]
            continue
        if plan.stop:
            lines += [f"**STOP:** {escaped(plan.stop)}.", ""]
        if plan.lost is not None:
            lines += [f"Overwritten: {escaped(lost_of(plan.lost))}.", ""]
        if plan.steps:
            lines += [f"Power failure: {escaped(power_cut(plan))}.", ""]
        lines += [line for step in plan.steps for line in box(step)]
        lines += [""]
    if unread:
        lines += ["## Not read", ""]
        lines += [f"- {escaped(f'{one.device}: {why(one, result.as_of)}')}" for one in unread]
    yield ("\n".join(lines).rstrip() + "\n").encode("utf-8", "backslashreplace")
