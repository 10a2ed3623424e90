"""An audit as JUnit XML, as build servers read it: a suite a device, a case a finding."""

from collections.abc import Iterator
from xml.sax.saxutils import quoteattr

from ovek.model.finding import Finding, Severity
from ovek.render.forms import AuditResult
from ovek.render.visible import visible


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write the suites; a finding that `fails` is a failure, a waived one is skipped."""
    summary, as_of, fails = result.summary, result.as_of, result.fails
    severities: tuple[Severity, ...] = ("critical", "warning", "note")
    failures = sum(getattr(summary, one) for one in severities if fails(one))
    yield b'<?xml version="1.0" encoding="UTF-8"?>\n'
    yield _line(f'<testsuites name="ovek audit" failures="{failures}">')
    for audit in result.audits:
        failing = [one for one in audit.findings if one.waived is None and fails(one.severity)]
        waived = sum(one.waived is not None for one in audit.findings)
        yield _line(
            f' <testsuite name={_quoted(audit.device)} tests="{len(audit.findings) + 1}" '
            f'failures="{len(failing)}" skipped="{waived}" timestamp="{as_of:%Y-%m-%dT%H:%M:%S}">'
        )
        name = _quoted(f"reload: {audit.reload}")
        yield _line(f"  <testcase classname={_quoted(audit.device)} name={name}/>")
        for one in audit.findings:
            yield _line(_case(audit.device, one, failed=fails(one.severity)))
        yield _line(" </testsuite>")
    yield _line("</testsuites>")


def _case(device: str, one: Finding, *, failed: bool) -> str:
    name = _quoted(f"{one.rule} {one.place}" if one.place else one.rule)
    told = f"{one.severity}: {one.saw}. {one.do}"
    if one.waived is not None:
        inside = f"<skipped message={_quoted(f'waived {one.waived}')}/>"
    elif failed:
        inside = f"<failure type={_quoted(one.rule)} message={_quoted(told)}/>"
    else:
        inside = f"<system-out>{_quoted(told)[1:-1]}</system-out>"
    return f"  <testcase classname={_quoted(device)} name={name}>{inside}</testcase>"


def _quoted(text: str) -> str:
    """An attribute; control characters, which XML cannot hold, are made visible."""
    return quoteattr(visible(text), {'"': "&quot;"})


def _line(text: str) -> bytes:
    return f"{text}\n".encode("utf-8", "backslashreplace")
