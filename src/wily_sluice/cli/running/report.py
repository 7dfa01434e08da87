"""`sluice report`."""

from __future__ import annotations

import os
import sqlite3
import time
from contextlib import ExitStack, closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import Refusal, Time, plan_from, renamed, state_option
from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.history.revisions import Revision
    from wily_sluice.history.stores import LineMeasurement
    from wily_sluice.views.report.contents import Used

BROWSERS = ("chromium", "chromium-browser")


@click.command()
@plan_from(argument=False)
@click.option("--last", type=Time(), default="7 days", show_default=True, help="How far back: 24 h, 7 days, 30 days.")
@click.option(
    "-o",
    "--output",
    "out",
    type=click.Path(path_type=Path, dir_okay=False),
    default=Path("report.html"),
    show_default=True,
    metavar="FILE",
    help="The page to write.",
)
@click.option(
    "--tables",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="FOLDER",
    help="Also write all figures, as CSV files, into this folder.",
)
@click.option("--pdf", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Also print the page.")
@click.option(
    "--picture",
    "png",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Also picture its top, as PNG.",
)
@renamed("--out", "--output")
@renamed("--csv", "--tables")
@renamed("--png", "--picture")
@state_option
def report(
    plan_file: Path, last: Nanoseconds, out: Path, folder: Path | None, pdf: Path | None, png: Path | None, state: Path
) -> None:
    """Write a page about the use of the uplinks.

    The page is a single HTML file: the rate of each queue over time with its guarantee and cap, delays, the busiest
    hours, the busiest hosts and services, active limiters, quotas, measurements of the line, changes of the plan, and
    findings of `check`. It loads nothing else, reads well on a phone and can be printed. --pdf and --picture need a
    headless browser on this machine.

    \b
    Examples:
      sudo sluice report
      sudo sluice report --last '30 days' --output march.html --tables march --pdf march.pdf
    """
    from wily_sluice.history.counter_store import CounterReader
    from wily_sluice.history.database import COUNTERS
    from wily_sluice.history.usage import period_of, resolution_for
    from wily_sluice.outside.files import examine, load
    from wily_sluice.views.report.contents import gather, write_csv
    from wily_sluice.views.report.page import page

    plan = load(plan_file)
    findings = [finding for finding in examine(plan_file)[1] if finding.severity != "note"]
    lasted = max(1, last // SECOND)
    end = int(time.time()) + 1
    try:
        if not (state / COUNTERS).exists():
            raise Refusal(f"nothing has been counted in {state} yet; counting starts with the gate")
        with closing(CounterReader(state)) as store:
            period = period_of(store, end - lasted, end, resolution_for(lasted))
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"cannot read the counters in {state}: {error}") from None
    if not period.series:
        raise Refusal("nothing was counted in that time")
    with ExitStack() as stack:
        contents = gather(
            plan,
            period,
            _revisions(state),
            findings,
            _measurements(state, period.begin, period.end),
            _used(state, stack),
        )
    try:
        out.write_text(page(contents), encoding="utf-8")
        written = write_csv(contents, folder) if folder is not None else []
    except OSError as error:
        raise Refusal(f"cannot write {error.filename or out}: {error.strerror}") from None
    for file, option in ((pdf, f"--print-to-pdf={pdf}"), (png, f"--screenshot={png}")):
        if file is not None:
            _print(out, file, option)
    others = [str(file) for file in (pdf, png) if file is not None]
    others += [f"{len(written)} files into {folder}"] if written else []
    click.echo(f"wrote {', '.join([str(out), *others])}")


def _print(page: Path, file: Path, option: str) -> None:
    """Have a browser print it."""
    import shutil
    import subprocess

    browser = next((program for name in BROWSERS if (program := shutil.which(name))), None)
    if browser is None:
        line = f"no headless browser ({BROWSERS[0]}) was found to write {file}"
        raise Refusal(f"{line}; install one, or print {page} from any browser")
    with suppress(FileNotFoundError):
        file.unlink()
    options = ["--headless", "--disable-gpu", "--no-pdf-header-footer", "--hide-scrollbars", "--window-size=1280,800"]
    options += ["--no-sandbox"] if os.geteuid() == 0 else []
    try:
        done = subprocess.run(
            [browser, *options, option, page.absolute().as_uri()],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise Refusal(f"the browser did not write {file} within a minute") from None
    if not file.exists():
        line = (done.stderr.strip().splitlines() or ["it did not say why"])[-1]
        raise Refusal(f"the browser could not write {file}: {line}")


def _measurements(state: Path, begin: int, end: int) -> list[LineMeasurement]:
    """What `sluice gauge line` kept."""
    from wily_sluice.history.database import MEASUREMENTS
    from wily_sluice.history.stores import MeasurementStore

    if (state / MEASUREMENTS).exists():
        with suppress(OSError, sqlite3.Error), closing(MeasurementStore(state)) as store:
            return store.between(begin, end)
    return []


def _used(state: Path, stack: ExitStack) -> Used | None:
    """The use of quotas, if it is stored."""
    from wily_sluice.history.database import QUOTAS
    from wily_sluice.history.stores import QuotaStore

    if (state / QUOTAS).exists():
        with suppress(OSError, sqlite3.Error):
            return stack.enter_context(closing(QuotaStore(state, 1.0))).used
    return None


def _revisions(state: Path) -> list[Revision]:
    """The plans that were applied, where a history is kept."""
    from wily_sluice.history.database import PLANS
    from wily_sluice.history.revisions import RevisionStore

    if not (state / PLANS).exists():
        return []
    with suppress(OSError, sqlite3.Error), closing(RevisionStore(state)) as store:
        return store.revisions()
    return []
