"""An audit as JUnit XML, as build servers read it: a suite a device, a case a finding.

The first case of a suite is the answer: it fails where that is a `no-go`, and is an error where the
device was not read. The names of cases are the same from night to night, so that a build server
sees one case change. The properties say where the results come from.
"""

from collections.abc import Iterator
from xml.sax.saxutils import quoteattr

from ovek.model.finding import DeviceAudit, Finding
from ovek.model.ofdevice import OfDevice
from ovek.model.results.audit import FleetAudit
from ovek.model.unread import Unread
from ovek.render.context import told
from ovek.render.unread import why
from ovek.render.view import View
from ovek.render.visible import visible


def audit(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Write the suites; a finding that fails is a failure, a waived one is skipped."""
    as_of = result.as_of
    unread = {finding.device: finding for finding in result.not_read}
    failures, tests, errors = 0, 0, 0
    for device in result.devices:
        tests += len(device.findings) + 1
        failures += _failures(device, view)
        errors += device.device in unread
    alone = [finding for finding in result.not_read if finding.last_read is None]
    yield b'<?xml version="1.0" encoding="UTF-8"?>\n'
    yield _line(
        f"<testsuites name={_quoted(f'ovek audit: {result.site}')} "
        f'tests="{tests + len(alone)}" failures="{failures}" errors="{errors + len(alone)}" '
        f'time="0">'
    )
    for device in result.devices:
        waived = sum(finding.waived is not None for finding in device.findings)
        lost = unread.get(device.device)
        counts = (len(device.findings) + 1, _failures(device, view), int(lost is not None), waived)
        yield from _head(device, counts, result)
        if lost is not None:
            yield _line(_error(device.device, why(lost, as_of)))
        else:
            yield _line(_answer(device, failed=_answer_fails(device, view)))
        for finding in device.findings:
            yield _line(_case(device.device, finding, failed=view.fails(finding.severity)))
        yield _line(" </testsuite>")
    for lost in alone:
        yield from _head(_of(lost), (1, 0, 1, 0), result)
        yield _line(_error(lost.device, why(lost, as_of)))
        yield _line(" </testsuite>")
    yield _line("</testsuites>")


def _failing(device: DeviceAudit, view: View) -> int:
    """How many findings of a device fail."""
    return sum(one.waived is None and view.fails(one.severity) for one in device.findings)


def _failures(device: DeviceAudit, view: View) -> int:
    """How many cases of a device fail."""
    return _failing(device, view) + _answer_fails(device, view)


def _answer_fails(device: DeviceAudit, view: View) -> bool:
    return device.answer == "no-go" and view.fails("critical")


def _of(unread: Unread) -> OfDevice:
    return OfDevice(device=unread.device, site=unread.site, role=unread.role, sheet=unread.sheet)


def _head(device: OfDevice, counts: tuple[int, ...], result: FleetAudit) -> Iterator[bytes]:
    """The head of a suite: its counts, when it was made, and where it is from."""
    numbers = zip(("tests", "failures", "errors", "skipped"), counts, strict=True)
    told_ = " ".join(f'{name}="{number}"' for name, number in numbers)
    stamp = f"{result.as_of:%Y-%m-%dT%H:%M:%S}"
    yield _line(
        f' <testsuite name={_quoted(device.device)} {told_} time="0" '
        f'hostname={_quoted(device.device)} timestamp="{stamp}">'
    )
    taken = (
        device.taken_at.isoformat().replace("+00:00", "Z") if device.taken_at is not None else None
    )
    properties = {
        "network": result.site,
        "source": told(result),
        "site": device.site,
        "role": device.role,
        "sheet": device.sheet,
        "model": device.model,
        "taken_at": taken,
    }
    yield _line("  <properties>")
    for name, value in properties.items():
        if value is not None:
            yield _line(f'   <property name="{name}" value={_quoted(value)}/>')
    yield _line("  </properties>")


def _answer(device: DeviceAudit, *, failed: bool) -> str:
    """The case of the answer."""
    head = f'  <testcase classname={_quoted(device.device)} name="answer" time="0">'
    summary = f"answer: {device.answer}; reload: {device.next_boot}"
    inside = f"<system-out>{_quoted(summary)[1:-1]}</system-out>"
    if failed:
        inside = f'<failure type="no-go" message={_quoted(device.why)}/>' + inside
    return f"{head}{inside}</testcase>"


def _error(device: str, text: str) -> str:
    """The case of a device that was not read."""
    head = f'  <testcase classname={_quoted(device)} name="answer" time="0">'
    return f"{head}<error message={_quoted(text)}/></testcase>"


def _case(device: str, finding: Finding, *, failed: bool) -> str:
    name = _quoted(f"{finding.rule} {finding.place}" if finding.place else finding.rule)
    text = f"{finding.severity}: {finding.seen}. {finding.words}"
    if finding.waived is not None:
        inside = f"<skipped message={_quoted(f'waived {finding.waived}')}/>"
    elif failed:
        inside = f"<failure type={_quoted(finding.rule)} message={_quoted(text)}/>"
    else:
        inside = f"<system-out>{_quoted(text)[1:-1]}</system-out>"
    return f'  <testcase classname={_quoted(device)} name={name} time="0">{inside}</testcase>'


def _quoted(text: str) -> str:
    """An attribute; control characters, which XML cannot hold, are made visible."""
    return quoteattr(visible(text), {'"': "&quot;"})


def _line(text: str) -> bytes:
    return f"{text}\n".encode("utf-8", "backslashreplace")
