"""An audit as JUnit XML, as build servers read it: a suite a device, a case a finding.

A device that was not read is an error.
"""

from collections.abc import Iterator
from xml.sax.saxutils import quoteattr

from ovek.model.finding import Finding, Severity
from ovek.render.forms import AuditResult
from ovek.render.unread import why
from ovek.render.visible import visible


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write the suites; a finding that `fails` is a failure, a waived one is skipped."""
    summary, as_of, fails = result.summary, result.as_of, result.fails
    severities: tuple[Severity, ...] = ("critical", "warning", "note")
    failures = sum(getattr(summary, one) for one in severities if fails(one))
    yield b'<?xml version="1.0" encoding="UTF-8"?>\n'
    unread = {one.device: why(one, as_of) for one in result.not_read}
    errors = f'errors="{len(unread)}"' if unread else 'errors="0"'
    yield _line(f'<testsuites name="ovek audit" failures="{failures}" {errors}>')
    for audit in result.audits:
        failing = [one for one in audit.findings if one.waived is None and fails(one.severity)]
        waived = sum(one.waived is not None for one in audit.findings)
        yield _line(
            f' <testsuite name={_quoted(audit.device)} tests="{len(audit.findings) + 1}" '
            f'failures="{len(failing)}" errors="{int(audit.device in unread)}" '
            f'skipped="{waived}" timestamp="{as_of:%Y-%m-%dT%H:%M:%S}">'
        )
        name = _quoted(f"reload: {audit.reload}")
        if (told := unread.pop(audit.device, None)) is not None:
            yield _line(_error(audit.device, told))
        else:
            yield _line(f"  <testcase classname={_quoted(audit.device)} name={name}/>")
        for one in audit.findings:
            yield _line(_case(audit.device, one, failed=fails(one.severity)))
        yield _line(" </testsuite>")
    for device, told in unread.items():
        stamp = f"{as_of:%Y-%m-%dT%H:%M:%S}"
        head = f'tests="1" failures="0" errors="1" skipped="0" timestamp="{stamp}"'
        yield _line(f" <testsuite name={_quoted(device)} {head}>")
        yield _line(_error(device, told))
        yield _line(" </testsuite>")
    yield _line("</testsuites>")


def _error(device: str, told: str) -> str:
    """The case of a device that was not read."""
    name, inside = _quoted("reload: not read"), f"<error message={_quoted(told)}/>"
    return f"  <testcase classname={_quoted(device)} name={name}>{inside}</testcase>"


def _case(device: str, one: Finding, *, failed: bool) -> str:
    name = _quoted(f"{one.rule} {one.place}" if one.place else one.rule)
    told = f"{one.severity}: {one.saw}. {one.words}"
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
