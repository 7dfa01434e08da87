"""`sluice gauge line`."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wily_sluice.cli.options import Refusal, Time, json_option, plan_from, state_option, usual_plan
from wily_sluice.units import DIRECTIONS, SECOND, Nanoseconds, exact_rate, exact_share, format_rate, format_time

if TYPE_CHECKING:
    from wily_sluice.gauge.advice import Advice
    from wily_sluice.gauge.line import Measured
    from wily_sluice.gauge.loads import Far
    from wily_sluice.plan.edit.edits import Edits
    from wily_sluice.plan.edit.operations import Operation
    from wily_sluice.plan.model import Uplink

from wily_sluice.cli.trying.gauge_options import DAY, http_port_option, key_option, port_option, read_key


@click.command()
@click.argument("host", required=False)
@port_option
@http_port_option
@key_option
@click.option("--url", metavar="URL", help="Measure a download of this instead; rates alone, and no key.")
@click.option("--connections", type=click.IntRange(1, 64), default=8, show_default=True, help="In each direction.")
@click.option("--framing/--no-framing", default=True, show_default=True, help="Also measure the per-packet overhead.")
@click.option("--every", type=Time(), metavar="TIME", help="Repeat the measurement at this interval.")
@click.option(
    "--for", "lasts", type=Time(), metavar="TIME", help="With --every: stop after this time.  [default: 1 day]"
)
@click.option("--uplink", metavar="NAME", help="The uplink of the plan that was measured.")
@click.option("--write", is_flag=True, help="Put rates, headroom and framing into the plan.")
@click.option("--yes", is_flag=True, help="With --write: also write a rate that may be the plan's own.")
@click.option("--picture", type=click.Path(path_type=Path), metavar="FILE", help="Draw it, as PNG or SVG.")
@plan_from(argument=False, usual=False)
@state_option
@click.option("--csv", "as_csv", is_flag=True, help="Print the figures over time as CSV: data in bit/s, delays in ns.")
@json_option
def line(
    host: str | None,
    port: int,
    http_port: int,
    key_file: Path | None,
    url: str | None,
    connections: int,
    framing: bool,
    every: Nanoseconds | None,
    lasts: Nanoseconds | None,
    uplink: str | None,
    write: bool,
    yes: bool,
    picture: Path | None,
    plan_file: Path | None,
    state: Path,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Measure rates, delays and the buffer of a line.

    HOST is a machine beyond the line that runs `sluice gauge serve`. The measurement takes about a minute and fills the
    line, so nothing else should use it. Several connections load the line down, up and both ways, while test packets
    measure the delay in each direction. Each rate has a confidence interval. Small packets then show the framing of the
    line. Clocks need not be right.

    Ends with advice for the plan and the reasons for it. --write changes the plan, by default ./sluice.yaml. A framing
    that fits the measurement, a range and a larger headroom stay as they are. A measurement of the gate's own rate is
    not written.

    If the rate varies, measure all day with --every; the advice then uses the tenth percentile. Ctrl-C ends a
    measurement early and keeps its results.

    Complete measurements of an uplink of the plan are also saved in the gate's state folder, if there is one. `sluice
    report` shows them, and the gate sends a notice when the line was slower than the plan for an hour.

    \b
    Examples:
      sluice gauge line far.example --picture line.png
      sluice gauge line far.example --plan surgery.yaml --uplink fibre --write
      sluice gauge line far.example --every 1h --for 1d
      sluice gauge line --url http://files.example/big.iso
    """
    from wily_sluice.gauge.advice import advice
    from wily_sluice.gauge.loads import Far, host_of
    from wily_sluice.views.live.line import (
        advice_data,
        draw_measured,
        line_records,
        measured_data,
        print_day,
        print_measured,
    )
    from wily_sluice.views.text.console import console, print_json, records_csv

    if (host is None) == (url is None):
        raise Refusal("give the far end, or --url")
    if write and plan_file is None:
        plan_file = usual_plan()
        if not plan_file.exists():
            raise Refusal(f"--write needs the plan, and there is no {plan_file} here: name it with --plan")
    if lasts is not None and every is None:
        raise Refusal("--for goes with --every")
    planned = _uplink_of(plan_file, uplink) if plan_file is not None else None
    named = planned.name if planned is not None else uplink or ""
    if shaping := _shaped_here(host or host_of(url or "")):
        problem = f"the gate of this machine shapes {shaping}, so this measures its plan instead of the line"
        if write:
            raise Refusal(f"{problem}: stop it with `sluice gate stop`, measure, and start it again")
        click.echo(f"note: {problem}", err=True)
    far = Far(host or host_of(url or ""), http_port, None if url else read_key(key_file), url or "")
    measured = _measurements(far, port, connections, framing, every, lasts)
    advised = advice(measured, planned.framed if planned is not None else None)
    if plan_file is not None and named:
        _keep(state, named, measured)
    if as_json:
        print_json(
            {"measurements": [measured_data(measurement) for measurement in measured], "advice": advice_data(advised)}
        )
    elif as_csv:
        click.echo(records_csv(line_records(measured)), nl=False)
    else:
        screen = console()
        if len(measured) > 1:
            print_day(screen, measured)
        print_measured(screen, measured[-1], advised, named)
    if picture is not None:
        try:
            draw_measured(measured[-1], picture)
        except (OSError, ValueError) as error:
            raise Refusal(f"cannot draw to {picture}: {error}") from None
    if write and plan_file is not None and planned is not None:
        write_measured(plan_file, planned, advised, yes)


def _uplink_of(plan_file: Path, name: str | None) -> Uplink:
    """The uplink with this name."""
    from wily_sluice.outside.files import load

    uplinks = {uplink.name: uplink for uplink in load(plan_file).uplinks}
    if name is None and len(uplinks) == 1:
        return next(iter(uplinks.values()))
    if name not in uplinks:
        if name is not None:
            raise click.BadParameter(f"there is no uplink “{name}”: {', '.join(uplinks)}", param_hint="--uplink")
        raise click.UsageError(f"say which uplink was measured, with --uplink: {', '.join(uplinks)}")
    return uplinks[name]


def _shaped_here(host: str) -> str:
    """The uplink to a host, if a gate runs here and shapes it; otherwise empty."""
    import socket
    import sqlite3

    from wily_sluice.control.client import Client
    from wily_sluice.errors import LiveError, RpcError
    from wily_sluice.outside.machine import way_to

    try:
        with Client(watching=True) as client:
            status = client.call("gate.status")
        address = str(socket.getaddrinfo(host, None)[0][4][0])
    except (LiveError, RpcError, OSError, sqlite3.Error):
        return ""
    interface = way_to(address)
    return next(
        (
            f"{name} on {uplink['interface']}"
            for name, uplink in status["uplinks"].items()
            if uplink["interface"] == interface
        ),
        "",
    )


def _measurements(
    far: Far, port: int, connections: int, framing: bool, every: Nanoseconds | None, lasts: Nanoseconds | None
) -> list[Measured]:
    """One, or one after another."""
    import time

    from rich.progress import BarColumn, Progress, TextColumn

    from wily_sluice.errors import LiveError
    from wily_sluice.gauge.line import measure
    from wily_sluice.views.text.console import console

    screen = console(stderr=True)
    columns = (TextColumn("measuring"), BarColumn(40), TextColumn("{task.description}"))
    measured: list[Measured] = []
    begun, tries = time.monotonic_ns(), 0
    while True:
        with Progress(*columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
            show = partial(progress.update, progress.add_task("", total=1.0))
            try:
                measured.append(measure(far, port, partial(_shown, show), connections, framing))
            except LiveError as error:
                if not measured:
                    raise
                click.echo(f"left out: {error}", err=True)
        tries += 1
        if every is None or measured[-1].interrupted:
            return measured
        done = time.monotonic_ns() - begun
        next_at = tries * every
        if next_at > (lasts if lasts is not None else DAY):
            return measured
        click.echo(
            f"{len(measured)} measured; the next in {format_time(max(0, next_at - done))}; Ctrl-C ends it", err=True
        )
        try:
            time.sleep(max(0, next_at - done) / SECOND)
        except KeyboardInterrupt:
            return measured


def _keep(state: Path, uplink: str, measured: list[Measured]) -> None:
    """Beside the gate's counters, where there are any; elsewhere nothing is left behind."""
    import sqlite3
    from contextlib import closing

    from wily_sluice.gauge.advice import line_rates
    from wily_sluice.history.database import COUNTERS
    from wily_sluice.history.stores import LineMeasurement, MeasurementStore

    if not (state / COUNTERS).exists():
        return
    try:
        with closing(MeasurementStore(state)) as store:
            for measurement in measured:
                if measurement.whole:
                    rates = line_rates(measurement)
                    idle = measurement.idle.p50 if measurement.idle is not None else None
                    store.add(
                        LineMeasurement(
                            uplink,
                            measurement.at // SECOND,
                            rates.get("down"),
                            rates.get("up"),
                            round(idle) if idle is not None else None,
                            measurement.ways["down"].buffer,
                            measurement.ways["up"].buffer,
                            min(
                                (way.responsiveness for way in measurement.ways.values() if way.responsiveness),
                                default=None,
                            ),
                        )
                    )
    except (OSError, sqlite3.Error) as error:
        click.echo(f"the measurement is not kept: {error}", err=True)


def _shown(show: Callable[..., None], what: str, part: float) -> None:
    show(description=what, completed=part)


ALIKE = (0.9, 1.03)  # of what the plan uses: a rate between these may be the plan's own
LOWER = 0.97  # of the plan's rate: what is no lower changes little


def write_measured(plan_file: Path, uplink: Uplink, advised: Advice | None, yes: bool) -> None:
    """Put the advice into the plan. Settings that fit the measurement stay: a framing, a range, more headroom."""
    from wily_sluice.cli.planning.editing import change

    if advised is None:
        raise Refusal("no rate was measured, so nothing was written")
    values: dict[str, Any] = {}
    for way, rate in advised.rates.items():
        usable, before, lowest = uplink.usable(way), uplink.measured(way), uplink.lowest.of(way)
        if usable * ALIKE[0] <= rate <= min(usable * ALIKE[1], before * LOWER) and not yes:
            warning = f"{format_rate(rate)} {way} is close to the usable rate of {uplink.name}, {format_rate(usable)}"
            why = "if a gate shapes the path, this measures its plan: stop it and measure again, or give --yes"
            raise Refusal(f"{warning}, so nothing was written; {why}")
        if lowest is None:
            values[way] = exact_rate(rate)
        elif not lowest <= rate <= before:
            values[way] = f"{exact_rate(min(lowest, rate))} to {exact_rate(max(before, rate))}"
    headroom = {way: max(advised.headroom, uplink.headroom.of(way) or 0.0) for way in DIRECTIONS}
    if any(headroom[way] != (uplink.headroom.of(way) or 0.0) for way in DIRECTIONS):
        shares = {way: exact_share(share) for way, share in headroom.items()}
        values["headroom"] = shares["up"] if shares["up"] == shares["down"] else shares
    if advised.framing != uplink.framed.words:
        values["framing"] = advised.framing

    def edited(edits: Edits) -> list[Operation]:
        return edits.set("uplink", uplink.name, values)

    change(edited, "gauge line --write", plan_file, measured=uplink.name, ask=not yes)
