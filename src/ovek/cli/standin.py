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

from ovek.app.output import write_file
from ovek.cli.command import CommandGroup
from ovek.cli.options import SITE
from ovek.cli.say import say

if TYPE_CHECKING:
    from ovek.standin.serve import Obeying, Record
    from ovek.standin.state import Standin


@click.group("standin", cls=CommandGroup)
def command() -> None:
    """Simulated devices for the sample network, on this machine only."""


@command.command("serve", examples=("standin serve", "standin serve --obey --cut-after 3"))
@SITE
@click.option(
    "--record",
    "record_file",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Log every byte the simulated devices receive, as JSON Lines.",
)
@click.option(
    "--obey",
    is_flag=True,
    help="Let the devices carry out typed changes: copy, delete, set, save, reload.",
)
@click.option(
    "--cut-after",
    type=click.IntRange(min=1),
    metavar="N",
    help="With --obey: the power fails in the middle of the Nth change on each device.",
)
def serve_command(
    site_folder: Path, record_file: Path | None, obey: bool, cut_after: int | None
) -> None:
    """Start the simulated devices of a site (standins.jsonl), one port each.

    Writes addresses.csv and known_hosts, so `ovek survey` finds them. The user is reader, the
    password harbour, unless standins.jsonl says otherwise. With --obey you can change them: they
    copy the images that server.json lists, and boot as their loader would. Stop with Ctrl-C.
    """
    from ovek.standin.hands import read_server
    from ovek.standin.serve import Obeying
    from ovek.standin.state import read_standins

    if cut_after is not None and not obey:
        raise click.UsageError("--cut-after needs --obey")
    standins = list(read_standins(site_folder / "standins.jsonl"))
    with contextlib.ExitStack() as stack:
        record = None
        if record_file is not None:
            out = stack.enter_context(record_file.open("a", encoding="utf-8"))

            def record(device: str, received: str) -> None:
                out.write(json.dumps({"device": device, "received": received}) + "\n")
                out.flush()

        obeying = Obeying(read_server(site_folder / "server.json"), cut_after) if obey else None
        asyncio.run(_serve(standins, site_folder, record, obeying))


async def _serve(
    standins: "list[Standin]",
    site_folder: Path,
    record: "Record | None",
    obeying: "Obeying | None",
) -> None:
    from ovek.standin.serve import LOOPBACK, serve

    serving, closing = await serve(standins, site_folder, record, obeying)
    rows = io.StringIO(newline="")
    writer = csv.writer(rows)
    writer.writerow(["name", "host", "port", "user"])
    for one in serving:
        writer.writerow([one.standin.device.device, LOOPBACK, one.port, one.standin.user])
    hosts = "".join(f"{one.known_host}\n" for one in serving)
    write_file(site_folder / "addresses.csv", [rows.getvalue().encode()])
    write_file(site_folder / "known_hosts", [hosts.encode()])
    say(f"{len(serving)} simulated devices are listening on {LOOPBACK}. Stop with Ctrl-C.")
    loop, ended = asyncio.get_running_loop(), asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        try:
            loop.add_signal_handler(number, ended.set)
        except NotImplementedError:  # Windows has none
            signal.signal(number, lambda *_: loop.call_soon_threadsafe(ended.set))
    await ended.wait()
    for each in closing:
        each.close()
