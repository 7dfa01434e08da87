"""`sluice completion`, and `sluice schema`: JSON Schemas (draft 2020-12) of the files that people write."""

from typing import Any

import click
from click.shell_completion import get_completion_class
from pydantic import BaseModel
from pydantic.json_schema import GenerateJsonSchema, JsonSchemaValue
from pydantic_core import core_schema

from wily_sluice.cli.options import Refusal
from wily_sluice.forecast.lab.traffic import TrafficEntry
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.views.text.console import print_json

MODELS: dict[str, type[BaseModel]] = {"plan": PlanEntry, "traffic": TrafficEntry}


class _AsWritten(GenerateJsonSchema):
    """Values parsed from text, such as rates, accept any type here: the words differ from the parsed type."""

    def function_before_schema(self, schema: core_schema.BeforeValidatorFunctionSchema) -> JsonSchemaValue:
        """Of a value that a function reads first."""
        return {}

    def default_schema(self, schema: core_schema.WithDefaultSchema) -> JsonSchemaValue:
        """Of a value with a default, which the file need not have: without the default."""
        return self.generate_inner(schema["schema"])


def json_schema(kind: str) -> dict[str, Any]:
    """The schema of `plan` or `traffic` files."""
    schema = MODELS[kind].model_json_schema(by_alias=True, schema_generator=_AsWritten)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **schema,
        "title": f"Wily Sluice {kind} file",
    }


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


@click.command()
@click.argument("kind", type=click.Choice(["plan", "traffic"]))
def schema(kind: str) -> None:
    """Print the JSON Schema of plan or traffic files, for editors.

    An editor that supports JSON Schema then completes keys and underlines unknown ones. Rates, sizes and names are
    checked only by `sluice check`.

    \b
    Examples:
      sluice schema plan > plan.schema.json
      sluice schema traffic > traffic.schema.json
    """
    from wily_sluice.cli.setup import json_schema

    print_json(json_schema(kind))
