"""An audit as JUnit XML, as build servers read it: a suite a device, a case a finding.

The first case of a suite is the answer: it fails where that is a `no-go`, and is an error where the
device was not read. The names of cases are the same from night to night, so that a build server
sees one case change. The properties say where the results come from.
"""

from collections.abc import Iterator
from xml.sax.saxutils import quoteattr

from ovek.model.finding import DeviceAudit, Finding, Severity
from ovek.model.ofdevice import OfDevice
from ovek.model.unread import Unread
from ovek.render.context import told
from ovek.render.forms import AuditResult
from ovek.render.unread import why
from ovek.render.visible import visible


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write the suites; a finding that `fails` is a failure, a waived one is skipped."""
    as_of = result.context.as_of
    unread = {one.device: one for one in result.not_read}
    fails, failures, tests, errors = result.fails, 0, 0, 0
    for audit in result.audits:
        tests += len(audit.findings) + 1
        failures += _failures(audit, result)
        errors += audit.device in unread
    alone = [one for one in result.not_read if one.last_read is None]
    yield b'<?xml version="1.0" encoding="UTF-8"?>\n'
    yield _line(
        f"<testsuites name={_quoted(f'ovek audit: {result.context.site}')} "
        f'tests="{tests + len(alone)}" failures="{failures}" errors="{errors + len(alone)}" '
        f'time="0">'
    )
    for audit in result.audits:
        waived = sum(one.waived is not None for one in audit.findings)
        lost = unread.get(audit.device)
        counts = (len(audit.findings) + 1, _failures(audit, result), int(lost is not None), waived)
        yield from _head(audit, counts, result)
        if lost is not None:
            yield _line(_error(audit.device, why(lost, as_of)))
        else:
            yield _line(_answer(audit, failed=_answer_fails(audit, result)))
        for one in audit.findings:
            yield _line(_case(audit.device, one, failed=fails(one.severity)))
        yield _line(" </testsuite>")
    for lost in alone:
        yield from _head(_of(lost), (1, 0, 1, 0), result)
        yield _line(_error(lost.device, why(lost, as_of)))
        yield _line(" </testsuite>")
    yield _line("</testsuites>")


def _failing(audit: DeviceAudit, result: AuditResult) -> int:
    """How many findings of a device fail."""
    return sum(one.waived is None and result.fails(one.severity) for one in audit.findings)


def _failures(audit: DeviceAudit, result: AuditResult) -> int:
    """How many cases of a device fail."""
    return _failing(audit, result) + _answer_fails(audit, result)


def _answer_fails(audit: DeviceAudit, result: AuditResult) -> bool:
    severe: Severity = "critical"
    return audit.answer == "no-go" and result.fails(severe)


def _of(one: Unread) -> OfDevice:
    return OfDevice(device=one.device, site=one.site, role=one.role, sheet=one.sheet)


def _head(one: OfDevice, counts: tuple[int, ...], result: AuditResult) -> Iterator[bytes]:
    """The head of a suite: its counts, when it was made, and where it is from."""
    numbers = zip(("tests", "failures", "errors", "skipped"), counts, strict=True)
    told_ = " ".join(f'{name}="{number}"' for name, number in numbers)
    stamp = f"{result.context.as_of:%Y-%m-%dT%H:%M:%S}"
    yield _line(
        f' <testsuite name={_quoted(one.device)} {told_} time="0" '
        f'hostname={_quoted(one.device)} timestamp="{stamp}">'
    )
    taken = one.taken_at.isoformat().replace("+00:00", "Z") if one.taken_at is not None else None
    properties = {
        "network": result.context.site,
        "source": told(result.context),
        "site": one.site,
        "role": one.role,
        "sheet": one.sheet,
        "model": one.model,
        "taken_at": taken,
    }
    yield _line("  <properties>")
    for name, value in properties.items():
        if value is not None:
            yield _line(f'   <property name="{name}" value={_quoted(value)}/>')
    yield _line("  </properties>")


def _answer(audit: DeviceAudit, *, failed: bool) -> str:
    """The case of the answer."""
    head = f'  <testcase classname={_quoted(audit.device)} name="answer" time="0">'
    summary = f"answer: {audit.answer}; reload: {audit.reload}"
    inside = f"<system-out>{_quoted(summary)[1:-1]}</system-out>"
    if failed:
        inside = f'<failure type="no-go" message={_quoted(audit.why)}/>' + inside
    return f"{head}{inside}</testcase>"


def _error(device: str, told: str) -> str:
    """The case of a device that was not read."""
    head = f'  <testcase classname={_quoted(device)} name="answer" time="0">'
    return f"{head}<error message={_quoted(told)}/></testcase>"


def _case(device: str, one: Finding, *, failed: bool) -> str:
    name = _quoted(f"{one.rule} {one.place}" if one.place else one.rule)
    told = f"{one.severity}: {one.saw}. {one.words}"
    if one.waived is not None:
        inside = f"<skipped message={_quoted(f'waived {one.waived}')}/>"
    elif failed:
        inside = f"<failure type={_quoted(one.rule)} message={_quoted(told)}/>"
    else:
        inside = f"<system-out>{_quoted(told)[1:-1]}</system-out>"
    return f'  <testcase classname={_quoted(device)} name={name} time="0">{inside}</testcase>'


def _quoted(text: str) -> str:
    """An attribute; control characters, which XML cannot hold, are made visible."""
    return quoteattr(visible(text), {'"': "&quot;"})


def _line(text: str) -> bytes:
    return f"{text}\n".encode("utf-8", "backslashreplace")
