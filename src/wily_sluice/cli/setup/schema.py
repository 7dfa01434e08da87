"""`sluice schema`."""

import click

from wily_sluice.views.text.console import print_json


@click.command()
@click.argument("kind", type=click.Choice(["plan", "traffic"]))
def schema(kind: str) -> None:
    """Print the JSON Schema of plan or traffic files, for editors.

    With it, an editor that knows JSON Schema completes keys and marks unknown ones as you type. Rates, sizes and names
    are checked by `sluice check` alone.

    \b
    Examples:
      sluice schema plan > plan.schema.json
      sluice schema traffic > traffic.schema.json
    """
    from wily_sluice.outside.schemas import json_schema

    print_json(json_schema(kind))
