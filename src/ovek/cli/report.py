"""`ovek report`: what there is to show of the fleet, on a page that needs nothing else."""

from pathlib import Path

import click
from msgspec.structs import replace

from ovek.app.report import check_size, earlier_report, is_folder, report, write_pages
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command, OneOf
from ovek.cli.options import A_PATH, SNAPSHOT, exit_code
from ovek.cli.selection import Selection, on_option, selecting
from ovek.cli.show import show, show_into
from ovek.render.report import pages


@click.command(
    "report",
    cls=Command,
    examples=("report -o fleet.html", "report --where role=core --format markdown"),
)
@click.option(
    "-o",
    "--output",
    metavar="FILE",
    type=A_PATH,
    help="File to write, or a folder (ends in /) for many pages. If it exists, the page shows the "
    "changes since then.",
)
@click.option(
    "--since",
    metavar="FILE",
    type=A_PATH,
    help="Show the changes since this earlier page instead.",
)
@click.option(
    "--format",
    "form",
    type=OneOf(["html", "markdown"]),
    default="html",
    help="html is the page, markdown a short form for a ticket (default: html).",
)
@as_of_options
@on_option
@SNAPSHOT
@selecting
def command(output: Path | None, since: Path | None, form: str, selected: Selection) -> None:
    """Write one HTML page about the fleet, or each DEVICE (a name or glob).

    The page needs no network and no other file: the answers, the changes since the last page, a
    table to sort and filter, and for each device its boot walk, images with whole digests, flash
    use, findings and steps left. More than 2,000 devices need a folder of pages.
    """
    if output is None and form == "html":
        raise click.UsageError("give the output file: ovek report -o FILE.html")
    devices = selected.devices()
    folder = output if output is not None and form == "html" and is_folder(output) else None
    page = folder / "index.html" if folder is not None else output
    earlier = earlier_report(since, page if form == "html" else None)
    result = report(devices, earlier=earlier)
    if page is None:
        show(result, form)
    else:
        if folder is not None:
            write_pages(result, folder, pages, over=earlier is not None and since is None)
        else:
            if form == "html":
                check_size(result, page)
            show_into(page, result, form)
        show(replace(result, written=str(page)))
    exit_code(False, devices)
