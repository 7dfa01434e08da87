"""`sluice gauge`: measures the line between two machines."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import RateOf, Refusal, Time, csv_option, json_option
from wily_sluice.gauge.stamp import LENGTH, LONGEST
from wily_sluice.units import SECOND, Nanoseconds, Rate

if TYPE_CHECKING:
    from wily_sluice.gauge.far import FarEnd

from wily_sluice.cli.trying.gauge_line import line
from wily_sluice.cli.trying.gauge_options import http_port_option, key_option, made_key, port_option, read_key


@click.group()
def gauge() -> None:
    """Measure the line between two machines.

    At the far end, `gauge serve` answers test packets (STAMP, RFC 8762) and serves data over HTTP. Both machines need
    the same key; requests without it get no answer.

    \b
    Examples, at the far end and then on the gateway:
      sudo sluice gauge serve
      sluice gauge line far.example
      sluice gauge delay far.example
    """


@gauge.command()
@click.option("--listen", metavar="ADDRESS", default="::", show_default=True, help="The address to listen on.")
@port_option
@http_port_option
@click.option(
    "--proofs",
    type=RateOf(),
    metavar="RATE",
    help="Also be the far end of `sluice prove --live`, with floods of up to this rate.",
)
@key_option
def serve(listen: str, port: int, http_port: int, proofs: Rate | None, key_file: Path | None) -> None:
    """Be the far end of measurements, until Ctrl-C.

    Answers test packets, and sends and receives data over HTTP at the full rate of the line, for up to 32 measurements
    at a time. Answers only requests signed with the key: up to 2,000 test packets a second from each sender, each
    answer no longer than its request, and no transfer for more than two minutes. Creates a key if there is none. The
    standard port 862 needs root; higher ports do not.

    With --proofs, holders of the key can also have UDP and TCP ports of their choice answered, and floods sent to their
    own address, for one proof at a time. Ports below 1024 need root.

    \b
    Examples:
      sudo sluice gauge serve
      sluice gauge serve --port 8863 --key line.key
      sudo sluice gauge serve --proofs 200Mbit/s
    """
    import asyncio
    import socket
    from threading import Thread

    from wily_sluice.gate.kernel.process import PYTHON
    from wily_sluice.gauge.far import FarEnd
    from wily_sluice.gauge.proofs import Proofs
    from wily_sluice.gauge.reflector import Reflector, prepared
    from wily_sluice.gauge.reflector import serve as answer

    key = made_key(key_file)
    command = (*PYTHON, "wily_sluice.rig.promises.traffic_program")
    reflector, far = Reflector(key), FarEnd(key, Proofs(command, proofs) if proofs is not None else None)
    with prepared(socket.AF_INET6 if ":" in listen else socket.AF_INET) as end:
        try:
            end.bind((listen, port))
        except OSError as error:
            raise Refusal(f"cannot listen on {listen} port {port}: {error.strerror}") from None
        Thread(target=answer, args=(end, reflector), daemon=True).start()
        with suppress(KeyboardInterrupt):
            asyncio.run(_serve_http(far, listen, port, http_port))
    click.echo(
        f"{reflector.answered} test packets answered, {reflector.refused} from strangers, {reflector.held_back} too "
        f"fast; {far.measured} measurements over HTTP, {far.refused} requests refused",
        err=True,
    )


async def _serve_http(far: FarEnd, listen: str, port: int, http_port: int) -> None:
    """Answer until it is interrupted."""
    import asyncio

    from aiohttp import web

    runner = web.ServerRunner(far.server(), shutdown_timeout=1.0)
    await runner.setup()
    try:
        try:
            await web.TCPSite(runner, None if listen == "::" else listen, http_port).start()
        except OSError as error:
            raise Refusal(f"cannot listen on {listen} port {http_port}: {error.strerror}") from None
        where = f"answering on {listen}: test packets on UDP port {port}, HTTP on TCP port {http_port}"
        click.echo(f"{where}; Ctrl-C ends it", err=True)
        await asyncio.Event().wait()
    finally:
        await runner.cleanup()


gauge.add_command(line)


@gauge.command()
@click.argument("host")
@port_option
@key_option
@click.option("--for", "lasts", type=Time(), default="10 s", show_default=True, help="How long to measure.")
@click.option("--pace", type=click.IntRange(1, 1000), default=50, show_default=True, help="Packets a second.")
@click.option(
    "--length",
    type=click.IntRange(LENGTH, LONGEST - 100),
    default=LENGTH,
    show_default=True,
    help="Bytes of a packet, without its headers.",
)
@csv_option
@json_option
def delay(
    host: str,
    port: int,
    key_file: Path | None,
    lasts: Nanoseconds,
    pace: int,
    length: int,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Measure round trips, and jitter and loss in each direction.

    HOST is a machine that runs `sluice gauge serve`. Round trips do not include its processing time. Clocks need not be
    right. Ctrl-C ends the measurement early and shows its results. Exits with status 3 if there was no answer.

    \b
    Examples:
      sluice gauge delay far.example
      sluice gauge delay 192.0.2.9 --port 8862 --for '1 min' --pace 20 --json
    """
    from rich.progress import BarColumn, Progress, TextColumn

    from wily_sluice.gauge.delays import delays, probe
    from wily_sluice.views.live.line import delays_data, print_delays
    from wily_sluice.views.text.console import console, print_json, records_csv

    key, screen = read_key(key_file), console(stderr=True)
    columns = (TextColumn("measuring"), BarColumn(40), TextColumn("{task.percentage:>3.0f}%"))
    with Progress(*columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
        task = progress.add_task("measuring", total=1.0)
        sent, answers = probe(host, port, key, lasts, pace, length, lambda part: progress.update(task, completed=part))
    result = delays(sent, answers)
    whole = sent >= lasts * pace // SECOND
    if not result.answered:
        raise Refusal(
            f"nothing came back from {host} port {port} in {sent} packets: does `sluice gauge serve` run there, with "
            "the same key, and does a firewall let UDP through?"
        )
    if as_json:
        print_json(delays_data(host, result, whole))
    elif as_csv:
        click.echo(records_csv([delays_data(host, result, whole)]), nl=False)
    else:
        print_delays(console(), host, result, whole)
