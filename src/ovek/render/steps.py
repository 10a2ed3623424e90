"""The words of a plan: its steps, what the room is made of, what a bank loses."""

from ovek.model.digest import TITLES
from ovek.model.plan import CleanupPlan, Lost, Need, Step
from ovek.model.size import show_mib
from ovek.model.typed import typed


def words_of(step: Step, plan: CleanupPlan) -> str:
    """What a step is, in words."""
    where = f"bank:{step.bank}" if step.place is None else step.place
    match step.kind:
        case "back-up" if step.place is None and plan.lost is not None:
            return f"Back up {where}: {lost_of(plan.lost)}"
        case "back-up":
            return f"Back up {where} off the device: it is not known to be anywhere else"
        case "check-digest":
            title = TITLES[step.algorithm] if step.algorithm is not None else "digest"
            return f"Check that the {title} of {where} is {step.digest}"
        case "delete":
            return f"Delete {where} ({show_mib(step.frees or 0)}, tier {step.tier}: {step.why})"
        case "check-free":
            told = "more" if step.free is None else f"{show_mib(step.free)} ({step.free} bytes)"
            return f"Check that {where} has {told} free"
        case "copy":
            return f"Copy {step.image} to {where}"
        case "write-bank":
            return f"Write {step.image} to {where}; half written, it is bad"
        case "set-boot":
            return f"{_pointed(step)}, and see: ovek bootwalk {typed(plan.device, 'DEVICE')}"
        case "reload":
            commit = ", and commit the trial to bank:committed if it does well"
            version = typed(step.version, "VERSION") if step.version else ""
            after = f"; then: ovek compare OLD --expect {version}" if version else ""
            return f"Reload in a window{commit if step.commits else ''}{after}"


def by_hand(step: Step, plan: CleanupPlan) -> str:
    """What to do where a name is not safe to type, and how to check it."""
    device = typed(plan.device, "DEVICE")
    return (
        "nothing: a name in this line is not safe to type. Do the step by hand, look at the name "
        f"as the device shows it, and check: ovek survey {device}, then plan again"
    )


def _pointed(step: Step) -> str:
    if step.once:
        return "Schedule the trial start"
    if step.bank is not None:
        return f"Make bank:{step.bank} the default, and save"
    return f"Put {step.place} first in the boot order, save"


def need_of(need: Need) -> str:
    """What the room for an image is made of, in words."""
    there = f"{need.file} is there already"
    parts = [there if need.there else f"{show_mib(need.image)} for the image"]
    if need.unpacked:
        parts.append(f"{show_mib(need.unpacked)} for what it unpacks to")
    if need.installing:
        parts.append(f"{show_mib(need.installing)} while it is installed")
    if need.reserve is None:
        parts.append("no reserve, since the capacity is not known")
    elif need.reserve:
        parts.append(f"{show_mib(need.reserve)} for the reserve")
    return ", ".join(parts)


def lost_of(lost: Lost) -> str:
    """What is lost by writing to a bank, in words."""
    if lost.verdict is None:
        return f"nothing: the bank is {lost.state}"
    told = f"{lost.version or 'a version that is not known'} ({lost.verdict})"
    if lost.verdict in ("altered", "cut-short"):
        return f"nothing that would start: {told}"
    if lost.elsewhere:
        return f"{told}, which is also elsewhere"
    return f"{told}, which is not known to be anywhere else: back it up first"
