"""The commands in outline, so that a shell can complete them without loading what they do.

`outline.json` is made from the code (`scripts/write_outline.py`): the names of commands and
options, which of them take a value, and how that is completed. From it the same tree is built
again, light.
"""

from typing import Any

import click

import ovek.cli.completing as completing


def outline_of(command: click.Command, ctx: click.Context) -> dict[str, Any]:
    """A command, or a group with all in it, as plain data."""
    told: dict[str, Any] = {"help": command.get_short_help_str()}
    if isinstance(command, click.Group):
        inside = {name: command.get_command(ctx, name) for name in command.list_commands(ctx)}
        told["commands"] = {
            name: outline_of(one, ctx) for name, one in inside.items() if one is not None
        }
    if command.name == "cli":
        from ovek.app.rules import rules

        told["rules"] = [card.slug for card in rules().rules]
    told["params"] = [_outline_of(param) for param in command.params]
    return told


def _outline_of(param: click.Parameter) -> dict[str, Any]:
    told: dict[str, Any] = {
        "name": param.name,
        "opts": [*param.opts, *param.secondary_opts],
        "argument": isinstance(param, click.Argument),
        "nargs": param.nargs,
        "required": param.required,
        "multiple": param.multiple,
        "flag": isinstance(param, click.Option) and param.is_flag,
    }
    if isinstance(param, click.Option):
        told["help"] = param.help or ""
    if isinstance(param.type, click.Choice):
        told["words"] = [str(each) for each in param.type.choices]
    elif isinstance(param.type, click.Path):
        told["path"] = True
    custom = getattr(param, "_custom_shell_complete", None)
    if custom is not None:
        told["complete"] = custom.__name__
    return told


class _Light(click.Group):
    """A group of commands, each built when it is asked for."""

    def __init__(self, inside: dict[str, dict[str, Any]], **more: Any) -> None:
        super().__init__(**more)
        self.inside = inside

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names, as in the help."""
        return list(self.inside)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """One of them."""
        told = self.inside.get(cmd_name)
        return None if told is None else light(cmd_name, told)


def light(name: str, told: dict[str, Any]) -> click.Command:
    """Build a command from its outline; it completes, and does nothing else."""
    params = [_param(each) for each in told["params"]]
    params.append(click.Option(["help", "-h", "--help"], is_flag=True, help="Show this help."))
    more: dict[str, Any] = {"name": name, "params": params, "add_help_option": False}
    if "commands" in told:
        return _Light(told["commands"], short_help=told["help"], **more)
    return click.Command(short_help=told["help"], **more)


def _param(told: dict[str, Any]) -> click.Parameter:
    kind: Any = str
    if "words" in told:
        kind = click.Choice(told["words"])
    elif "path" in told:
        kind = click.Path()
    complete = getattr(completing, told["complete"]) if "complete" in told else None
    if told["argument"]:
        return click.Argument(
            [told["name"]], type=kind, nargs=told["nargs"], required=told["required"],
            shell_complete=complete,
        )  # fmt: skip
    if told["flag"]:
        return click.Option([told["name"], *told["opts"]], is_flag=True, help=told["help"])
    return click.Option(
        [told["name"], *told["opts"]], type=kind, multiple=told["multiple"], help=told["help"],
        shell_complete=complete,
    )  # fmt: skip


def complete(instruction: str) -> int:
    """Answer a shell that asks what a word can be; its exit code."""
    from click.shell_completion import shell_complete

    return shell_complete(
        light("ovek", completing.read_outline()), {}, "ovek", "_OVEK_COMPLETE", instruction
    )
