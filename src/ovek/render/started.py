"""A site that was started, for a terminal: the next commands in the order in which they work."""

from collections.abc import Iterator

from ovek.model.plain_word import typed
from ovek.model.results.started import StartedSite
from ovek.render.lines import Line
from ovek.render.view import View


def started(result: StartedSite, view: View) -> Iterator[Line]:
    """Go through the lines: what was written, and what comes next."""
    number = result.devices
    devices = f"{number} device{'s' if number != 1 else ''}" if number else "no device yet"
    where = f"--site {typed(result.folder, 'FOLDER')}"
    session = result.session or "a saved session"
    steps = [
        (
            f"ovek sheet learn {typed(kind, 'NAME')} COPY {where}",
            f"COPY: a copy of {session}, with marks added",
        )
        for kind in result.unknown
    ]
    keys = " --take-new-keys" if result.asks else ""
    steps += [
        (f"ovek catalog import FILE {where}", "the publisher's digests"),
        (f"ovek survey{keys} {where}", "" if number else "once fleet.toml lists a device"),
        (f"ovek audit {where}", ""),
    ]
    yield f"Created {result.folder}/ with {devices}. Next steps:"
    for line, why in steps:
        yield f"  {line}"
        if why:
            yield f"    ({why})"
