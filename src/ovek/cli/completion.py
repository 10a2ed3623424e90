"""`ovek completion`: completion for a shell."""

import click
from click.shell_completion import get_completion_class

from ovek.cli.command import Command, OneOf


@click.command("completion", cls=Command, examples=("completion bash", "completion zsh"))
@click.argument("shell", type=OneOf(["bash", "zsh", "fish", "powershell"]))
def command(shell: str) -> None:
    """Print the completion script for SHELL (bash, zsh, fish or powershell).

    For bash: eval "$(ovek completion bash)" in ~/.bashrc. For zsh: the same with zsh, in ~/.zshrc.
    For fish: ovek completion fish > ~/.config/fish/completions/ovek.fish. For PowerShell, in
    $PROFILE: ovek completion powershell | Out-String | Invoke-Expression
    """
    from ovek.cli import COMPLETE, cli

    kind = get_completion_class(shell)
    if kind is None:  # an older Click
        raise click.UsageError(f"{shell} needs Click 8.5 or newer: pip install -U click")
    # The version of the shell is its user's affair: what is written works from bash 4.4 on.
    kind._check_version = staticmethod(lambda: None)  # type: ignore[attr-defined]
    click.echo(kind(cli, {}, "ovek", COMPLETE).source())
