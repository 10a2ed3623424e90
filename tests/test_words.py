"""What is said of the sample's devices stands in one file, so that a change of words is one diff.

`OVEK_WRITE_WORDS=1 python -m pytest tests/test_words.py` writes it anew. All other tests of the
engine hold data.
"""

import os
from datetime import UTC, datetime
from pathlib import Path

from ovek import audit, open_site, runbooks, select
from ovek.demo import write_site

WORDS = Path(__file__).with_name("words.txt")
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)  # the evening on which the sample was read last


def said(site):
    """Go through what the audit and the runbook of each device say."""
    devices = select(site)
    books = {one.device: one for one in runbooks(devices, NOW).devices}
    for one in audit(devices, NOW).devices:
        yield f"{one.device}: {one.answer}" + (f", {one.why}" if one.why else "")
        for finding in one.findings:
            place = f" {finding.place}" if finding.place else ""
            yield f"  {finding.severity} {finding.rule}{place}"
            yield f"    seen: {finding.seen}"
            yield f"    do: {finding.words}"
        book = books[one.device]
        for step in book.steps:
            yield f"  {step.do.number}. {step.words}"
            yield from (f"    type: {line}" for line in step.do.lines)
            yield from (f"    danger: {harm}" for harm in step.do.harm)
            yield from (f"    undo: {undo}" for undo in step.undo)
        yield from (f"  find out: {told}" for told in book.find_out)


def test_what_is_said_of_the_sample_is_what_stands_in_the_file(tmp_path):
    write_site(tmp_path / "site")
    text = "".join(f"{line}\n" for line in said(open_site(tmp_path / "site")))
    if os.environ.get("OVEK_WRITE_WORDS"):
        WORDS.write_text(text)
    assert text == WORDS.read_text()
