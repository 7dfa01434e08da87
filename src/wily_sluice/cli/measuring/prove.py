"""`sluice prove`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import WARNINGS, Refusal, json_option, plan_from

if TYPE_CHECKING:
    from wily_sluice.forecast.prove.proof import Proof
    from wily_sluice.plan.model import Plan


@click.command()
@plan_from()
@click.option("--only", metavar="WORD", help="Only promises whose kind or name contains this.")
@click.option("--strict", is_flag=True, help="Also exit with status 1 if a test proves nothing or cannot be tried.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the results as JUnit XML.")
@json_option
@click.pass_context
def prove(
    context: click.Context,
    /,
    plan_file: Path,
    only: str | None,
    strict: bool,
    junit: Path | None,
    as_json: bool,
) -> None:
    """Test every promise of a plan, with a number for each.

    Each guarantee is tried while all other queues flood, each cap and limiter on an idle line, each delay within its
    guarantee, each rule with a conversation that it is about. The tests run on the gate's own engine in simulated time;
    no packet is sent. Each is run again without what makes the promise: a test that still passes proves nothing, and
    says so. Exits with status 1 if a promise is broken.

    \b
    Examples:
      sluice prove
      sluice prove surgery.yaml --only guarantee
      sluice prove --strict --junit results.xml
    """
    from wily_sluice.outside.files import load
    from wily_sluice.views.forecast.prove import junit_xml, print_proofs, proofs_data
    from wily_sluice.views.text.console import console, print_json

    plan = load(plan_file)
    proofs = [one for one in _proofs(plan) if only is None or only in one.kind or only in one.name]
    if not proofs:
        raise Refusal(f"no promise has “{only}” in its kind or name" if only else "the plan makes no promises")
    if junit is not None:
        try:
            junit.write_bytes(junit_xml(plan, proofs))
        except OSError as error:
            raise Refusal(f"cannot write {junit}: {error.strerror}") from None
    if as_json:
        print_json(proofs_data(plan, proofs))
    else:
        print_proofs(console(), plan, proofs)
    verdicts = {proof.verdict for proof in proofs}
    context.exit(WARNINGS if "broken" in verdicts or (strict and verdicts != {"kept"}) else 0)


def _proofs(plan: Plan) -> list[Proof]:
    """All proofs, with a count on a terminal while they are made."""
    from rich.progress import Progress, TextColumn

    from wily_sluice.forecast.prove.promises import prove as all_of
    from wily_sluice.views.text.console import console

    found: list[Proof] = []
    screen = console(stderr=True)
    columns = TextColumn("proving: {task.completed} tested, last {task.description}")
    with Progress(columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
        task = progress.add_task("", total=None)
        for proof in all_of(plan):
            found.append(proof)
            progress.update(task, advance=1, description=f"{proof.kind} {proof.name}")
    return found
