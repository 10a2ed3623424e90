"""What is another since an earlier report.

>>> from datetime import UTC, datetime
>>> at = datetime(2030, 4, 1, tzinfo=UTC)
>>> then = {"sw": ImageState("go", "1.0", ()), "old": ImageState("go", "1.0", ())}
>>> was = Remembered(format="ovek.report/1", as_of=at, site="", devices=then)
>>> found = news(was, {"sw": ImageState("no-go", "1.0", ("stranded",))})
>>> found.answers, found.opened, found.gone
((('sw', 'go', 'no-go'),), (('sw', 'stranded'),), ('old',))
"""

from collections.abc import Mapping

from ovek.model.report import ImageState, News, Remembered, ReportDevice


def standing_of(device: ReportDevice) -> ImageState:
    """What a report remembers of a device."""
    running = " / ".join(dict.fromkeys(each.running or "unknown" for each in device.boots))
    found = (
        f"{each.rule} at {each.place}" if each.place is not None else each.rule
        for each in device.findings
        if each.waived is None
    )  # fmt: skip
    return ImageState(device.answer, running or "unknown", tuple(dict.fromkeys(found)))


def news(before: Remembered, now: Mapping[str, ImageState]) -> News:
    """Hold the devices of an earlier report against those of now, in their order."""
    then = before.devices
    both = [(name, then[name], is_) for name, is_ in now.items() if name in then]
    return News(
        since=before.as_of,
        answers=tuple(
            (name, was.answer, is_.answer) for name, was, is_ in both if was.answer != is_.answer
        ),
        versions=tuple(
            (name, was.running, is_.running)
            for name, was, is_ in both
            if was.running != is_.running
        ),
        opened=tuple(
            (name, each) for name, was, is_ in both for each in is_.found if each not in was.found
        ),
        closed=tuple(
            (name, each) for name, was, is_ in both for each in was.found if each not in is_.found
        ),
        new=tuple(name for name in now if name not in then),
        gone=tuple(name for name in then if name not in now),
    )
