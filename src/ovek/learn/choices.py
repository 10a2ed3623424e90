"""What no session tells and the boot walk needs: asked of a person, with what follows of each."""

from collections.abc import Mapping

from ovek.learn.lesson import Lesson
from ovek.model.learned import Choice

_BAD = {
    "halt": "the boot walk stops there: the device waits at its boot loader",
    "next": "the boot walk continues with the next entry",
}
_FALLBACK = {
    "files": {
        "none": "the boot walk stops: the device waits at its boot loader",
        "first-found": "the boot walk tries the images on default_volume, in the order listed",
    },
    "banks": {
        "none": "the boot walk stops: the device waits at its boot loader",
        "other-bank": "the boot walk tries the other bank",
    },
}
_COVERS = {
    "configuration": "boot settings count as saved",
    "boot-settings": "with unsaved changes, the saved boot order is unknown",
    "both": "with unsaved changes, the saved boot order is unknown",
}


def choices_of(lesson: Lesson, layout: str, chosen: Mapping[str, str] = {}) -> tuple[Choice, ...]:
    """What a person has to say of how a kind of device starts; `chosen` are answers by their key.

    Until somebody does, each says what is the safer: what promises less.
    """
    kind = "files" if layout == "files" else "banks"
    asked: list[tuple[str, str, dict[str, str], str]] = [
        ("on_bad_image", "What does the device do at an image that it cannot boot?", _BAD, "halt"),
        (
            "fallback",
            "What does it do when every configured entry has failed?",
            _FALLBACK[kind],
            "none",
        ),
    ]
    volumes = lesson.volumes
    if layout == "files" and volumes:
        by_volume = {each: f"a bare file name, and first-found, mean {each}" for each in volumes}
        first = lesson.default_volume if lesson.default_volume in by_volume else volumes[0]
        asked.append(
            (
                "default_volume",
                "On which volume does it look for images by itself?",
                by_volume,
                first or "",
            )
        )
    if any("config.unsaved_changes" in question.fields for question in lesson.questions):
        what = "When it reports unsaved changes, which settings does it mean?"
        asked.append(("unsaved_covers", what, _COVERS, "both"))
    return tuple(
        Choice(key=key, asks=asks, value=chosen.get(key, value), follows=follows)
        for key, asks, follows, value in asked
    )
