"""`sluice schema`."""

import click

from wily_sluice.views.text.console import print_json


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
    from wily_sluice.outside.schemas import json_schema

    print_json(json_schema(kind))
