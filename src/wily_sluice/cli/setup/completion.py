"""`sluice completion`."""

import click
from click.shell_completion import get_completion_class

from wily_sluice.cli.options import Refusal

SHELLS = ("bash", "zsh", "fish")


@click.command()
@click.argument("shell", type=click.Choice(SHELLS))
@click.pass_context
def completion(context: click.Context, shell: str) -> None:
    """Print the completion script for a shell.

    It completes commands, options, and names from your plan such as uplinks, queues and hosts.

    \b
    Examples:
      sluice completion bash > ~/.local/share/bash-completion/completions/sluice
      sluice completion zsh > ~/.zfunc/_sluice
      sluice completion fish > ~/.config/fish/completions/sluice.fish
    """
    kind = get_completion_class(shell)
    if kind is None:
        raise Refusal(f"no completion for {shell}")
    script = kind(context.find_root().command, {}, "sluice", "_SLUICE_COMPLETE")
    # The script alone; `source` would first ask the shell for its version.
    click.echo(script.source_template % script.source_vars())
