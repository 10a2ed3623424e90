"""The command line: one thin module a command, imported when the command is used."""

import errno
import gc
import importlib
import io
import os
import sys
from typing import TYPE_CHECKING, Any, TextIO

import click

from ovek import __version__
from ovek.cli.command import CommandGroup

if TYPE_CHECKING:
    from typing_extensions import Buffer

COMPLETE = "_OVEK_COMPLETE"  # what a shell sets that asks what a word can be
# In the order in which an engineer works.
COMMANDS = {
    "demo": "Create a sample network and take a guided tour.",
    "init": "Create a site folder for your own network.",
    "survey": "Read the devices (read-only) and save a snapshot.",
    "audit": "Can each device be reloaded safely, and if not, why?",
    "bootwalk": "What will each device boot next? (with what-ifs)",
    "cleanup": "Which files can be deleted to free space?",
    "runbook": "Upgrade steps left per device, in order, with times.",
    "chart": "Figures: flash, versions, verdicts, walk, waves, trend.",
    "report": "Write one self-contained HTML page about the fleet.",
    "compare": "What changed between two snapshots?",
    "catalog": "Published releases: import, list and upgrade paths.",
    "advisory": "Security advisories: import, list, and what they affect.",
    "shelf": "Verify image files on a server, folder or stick.",
    "custody": "Trace an image from publisher to flash.",
    "where": "Find an image, version or digest on devices and shelves.",
    "history": "History of devices, images and findings.",
    "rules": "Audit rules: what each checks, why, and the fix.",
    "policy": "Check policy.toml and waivers.toml.",
    "sheet": "Device descriptions (sheets): learn, try, check, new.",
    "standin": "Simulated devices.",
    "settings": "Options that are set, and where.",
    "cache": "What Ovek keeps in your cache, and removing it.",
    "completion": "Shell completion for bash, zsh, fish and PowerShell.",
}


class _Commands(CommandGroup):
    """The commands, each imported only when it is run or asked for its own help."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Take in what was typed; with --version, -v tells what Ovek stands on, too."""
        if args and set(args) <= {"--version", "-v", "--verbose"} and "--version" in args:
            from ovek.cli.say import say

            say(f"ovek {__version__}")
            if len(args) > 1:
                from ovek.app.versions import stands_on

                for name, version in stands_on():
                    say(f"  {name:<18} {version}")
            ctx.exit()
        return super().parse_args(ctx, args)

    def invoke(self, ctx: click.Context) -> Any:
        """Do what was typed; what is said of a wrong usage may repeat a name out of a file."""
        try:
            return super().invoke(ctx)
        except click.ClickException as error:
            from ovek.cli.say import shown

            error.message = shown(error.message)  # type: ignore[misc]
            raise

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"ovek.cli.{cmd_name}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(cls=_Commands)
@click.version_option(
    __version__, message="ovek %(version)s", help="Show the version, with -v of all it stands on."
)
def cli() -> None:
    """Audit the software images on network devices' flash.

    Ovek only reads devices; you make the changes. Most commands take --site FOLDER, and
    --format json for scripts.
    """


class _Unbreakable(io.FileIO):
    """Standard output whose reader may go away: the rest goes nowhere, with the same exit code."""

    def write(self, data: "Buffer", /) -> int:
        """Write bytes; nobody is told where nobody reads them any more."""
        try:
            return super().write(data) or 0
        except OSError as error:
            if error.errno not in (errno.EPIPE, errno.EINVAL):
                raise
            _leave(self)
            return memoryview(data).nbytes


def _leave(stream: TextIO | io.FileIO) -> None:
    """Write nothing more to where nothing can be written: what is left goes nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def _unbreakable(stream: TextIO) -> TextIO:
    """The same stream, which a reader that goes away does not break."""
    try:
        raw = _Unbreakable(stream.fileno(), "w", closefd=False)
    except (OSError, ValueError):  # no file of the system
        return stream
    return io.TextIOWrapper(
        io.BufferedWriter(raw), encoding=stream.encoding, line_buffering=stream.isatty()
    )


def main() -> None:
    """Run `ovek`; every error that a user can cause is one message and exit code 2."""
    asked = os.environ.get(COMPLETE)
    if asked is not None:  # a shell waits for this at every press of a key
        from ovek.cli.outline import complete

        sys.exit(complete(asked))
    if sys.stderr is None:  # closed by whoever started us
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115, PTH123 - for as long as we run
    if sys.stdout is None:
        from ovek.cli.say import tell

        tell("standard output is closed; give it a file or a terminal")
        sys.exit(2)
    sys.stdout = _unbreakable(sys.stdout)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    # What is read of a site stays as long as the command: looking for waste in it finds none.
    gc.set_threshold(50_000, 20, 100)
    from ovek.app.errors import InputError, ManyInputError
    from ovek.render.extra import NoExtraError

    try:
        cli(prog_name="ovek")
    except (InputError, ManyInputError) as error:
        from ovek.cli.say import tell

        for each in error.errors if isinstance(error, ManyInputError) else [error]:
            tell(str(each))
        sys.exit(2)
    except NoExtraError as error:
        from ovek.cli.say import tell

        tell(f"{error}")
        sys.exit(2)
    except OSError as error:
        from ovek.cli.say import tell

        tell(f"{error.strerror or error}; check free space and permissions")
        _leave(sys.stdout)
        sys.exit(2)
