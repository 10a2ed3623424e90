"""What a survey leaves beside its snapshot of what it tried: `NAME.survey.json`."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Literal

import msgspec
from msgspec import Struct

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes
from ovek.files.state import tried_file
from ovek.model.surveyed import Surveyed

_ENCODER = msgspec.json.Encoder(order="sorted")


class SurveyTries(Struct, kw_only=True):
    """When a survey began, and what came of each device."""

    format: Literal["ovek.survey/1"] = "ovek.survey/1"
    snapshot: str
    began: datetime
    devices: Sequence[Surveyed]


def leave_tried(snapshot: Path, began: datetime, results: Sequence[Surveyed]) -> None:
    """Leave what was tried; what a survey that was cut off had left stays. Raises InputError."""
    file, before = tried_file(snapshot), list[Surveyed]()
    left = _left(file) if file.exists() else None
    if left is not None:
        known = {one.device for one in results}
        before = [one for one in left.devices if one.device not in known]
        began = left.began
    tried = SurveyTries(snapshot=snapshot.name, began=began, devices=[*before, *results])
    write_whole(file, [_ENCODER.encode(tried) + b"\n"])


def _left(file: Path) -> SurveyTries | None:
    """What a survey that was cut off had left; None where that cannot be read."""
    try:
        return msgspec.json.decode(read_bytes(file), type=SurveyTries)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None
