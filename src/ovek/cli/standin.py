"""`ovek standin`: simulated devices."""

import asyncio
import contextlib
import csv
import io
import json
import signal
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ovek.cli.options import SITE
from ovek.files.whole import write_whole

if TYPE_CHECKING:
    from ovek.standin.serve import Record
    from ovek.standin.state import Standin


@click.group("standin")
def command() -> None:
    """Simulated devices that speak the sample vendors' languages, on loopback only."""


@command.command("serve")
@SITE
@click.option(
    "--record",
    "record_file",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Write down every byte that the stand-ins receive, a JSON line each time.",
)
def serve_command(site_folder: Path, record_file: Path | None) -> None:
    """Serve the stand-ins of a site (standins.jsonl), one port each, until Ctrl-C.

    Writes the site's addresses.csv and known_hosts, so that `ovek survey` finds them. The user is
    reader, the password harbour, unless the state file says otherwise.
    """
    from ovek.standin.state import read_standins

    standins = list(read_standins(site_folder / "standins.jsonl"))
    with contextlib.ExitStack() as stack:
        record = None
        if record_file is not None:
            out = stack.enter_context(record_file.open("a", encoding="utf-8"))

            def record(device: str, received: str) -> None:
                out.write(json.dumps({"device": device, "received": received}) + "\n")
                out.flush()

        asyncio.run(_serve(standins, site_folder, record))


async def _serve(standins: "list[Standin]", site_folder: Path, record: "Record | None") -> None:
    from ovek.standin.serve import LOOPBACK, serve

    serving, closing = await serve(standins, site_folder, record)
    rows = io.StringIO(newline="")
    writer = csv.writer(rows)
    writer.writerow(["name", "host", "port", "user"])
    for one in serving:
        writer.writerow([one.standin.device.device, LOOPBACK, one.port, one.standin.user])
    hosts = "".join(f"{one.known_host}\n" for one in serving)
    write_whole(site_folder / "addresses.csv", [rows.getvalue().encode()])
    write_whole(site_folder / "known_hosts", [hosts.encode()])
    click.echo(f"{len(serving)} stand-ins are served on {LOOPBACK}; Ctrl-C ends them.")
    loop, ended = asyncio.get_running_loop(), asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, ended.set)
    await ended.wait()
    for each in closing:
        each.close()
