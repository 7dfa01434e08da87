"""`sluice gauge`: measures the line between two machines."""

from __future__ import annotations

import secrets
from contextlib import suppress
from pathlib import Path

import click

from wily_sluice.cli.options import Refusal, Time, json_option
from wily_sluice.gauge.stamp import LENGTH, LONGEST, PORT, SHORTEST_KEY
from wily_sluice.units import SECOND, Nanoseconds

key_option = click.option(
    "--key",
    "key_file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="The key that both machines share.  [default: gauge.key in ~/.config/wily-sluice]",
)
port_option = click.option(
    "--port", type=click.IntRange(1, 65535), default=PORT, show_default=True, help="Its UDP port."
)


@click.group()
def gauge() -> None:
    """Measure the line between two machines.

    On a machine at the far end, `gauge serve` sends test packets back (STAMP, RFC 8762). Both machines share a key;
    strangers get no answer.

    \b
    Example, at the far end and then on the gateway:
      sudo sluice gauge serve
      sluice gauge delay far.example
    """


def _usual_key() -> Path:
    from platformdirs import user_config_path

    return user_config_path("wily-sluice") / "gauge.key"


def _read_key(key_file: Path | None) -> bytes:
    path = key_file or _usual_key()
    try:
        key = path.read_bytes().strip()
    except FileNotFoundError:
        raise Refusal(
            f"there is no key in {path}: copy it from the machine on which `sluice gauge serve` runs"
        ) from None
    except OSError as error:
        raise Refusal(f"the key in {path} cannot be read: {error.strerror}") from None
    if len(key) < SHORTEST_KEY:
        raise Refusal(f"the key in {path} has {len(key)} bytes: it needs at least {SHORTEST_KEY}")
    return key


def _made_key(key_file: Path | None) -> bytes:
    """The key, made now where there is none."""
    path = key_file or _usual_key()
    if not path.exists():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=0o600, exist_ok=False)
            path.write_text(secrets.token_hex(32) + "\n")
        except OSError as error:
            raise Refusal(f"a key cannot be written to {path}: {error.strerror}") from None
        click.echo(f"a new key is in {path}: copy it to the machine that measures", err=True)
    return _read_key(key_file)


@gauge.command()
@click.option("--listen", metavar="ADDRESS", default="::", show_default=True, help="The address to listen on.")
@port_option
@key_option
def serve(listen: str, port: int, key_file: Path | None) -> None:
    """Send test packets back, until Ctrl-C.

    Answers only packets that are signed with the key, at most 2,000 a second for each sender, and never with more bytes
    than came. The port 862 of the standard needs root; another does not. Makes a key where there is none.

    \b
    Examples:
      sudo sluice gauge serve
      sluice gauge serve --port 8862 --key line.key
    """
    import socket

    from wily_sluice.gauge.reflector import Reflector, prepared
    from wily_sluice.gauge.reflector import serve as answer

    key = _made_key(key_file)
    reflector = Reflector(key)
    with prepared(socket.AF_INET6 if ":" in listen else socket.AF_INET) as one:
        try:
            one.bind((listen, port))
        except OSError as error:
            raise Refusal(f"cannot listen on {listen} port {port}: {error.strerror}") from None
        click.echo(f"answering test packets on {listen} port {port}; Ctrl-C ends it", err=True)
        with suppress(KeyboardInterrupt):
            answer(one, reflector)
    click.echo(
        f"{reflector.answered} answered, {reflector.refused} from strangers, {reflector.held_back} too fast", err=True
    )


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
@json_option
def delay(
    host: str, port: int, key_file: Path | None, lasts: Nanoseconds, pace: int, length: int, as_json: bool
) -> None:
    """Measure round trips, and jitter and loss each way.

    HOST is a machine that runs `sluice gauge serve`. Round trips leave out the time that it takes. No clock has to
    be right for any of the figures. Ctrl-C ends it early, with what was measured. Exits with status 3 if nothing came
    back.

    \b
    Examples:
      sluice gauge delay far.example
      sluice gauge delay 192.0.2.9 --port 8862 --for '1 min' --pace 20 --json
    """
    from rich.progress import BarColumn, Progress, TextColumn

    from wily_sluice.gauge.delays import delays
    from wily_sluice.gauge.sender import probe
    from wily_sluice.views.live.gauge import delays_data, print_delays
    from wily_sluice.views.text.console import console, print_json

    key, screen = _read_key(key_file), console(stderr=True)
    columns = (TextColumn("measuring"), BarColumn(40), TextColumn("{task.percentage:>3.0f}%"))
    with Progress(*columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
        task = progress.add_task("measuring", total=1.0)
        sent, answers = probe(host, port, key, lasts, pace, length, lambda part: progress.update(task, completed=part))
    found = delays(sent, answers)
    whole = sent >= lasts * pace // SECOND
    if not found.answered:
        raise Refusal(
            f"nothing came back from {host} port {port} in {sent} packets: does `sluice gauge serve` run there, with "
            "the same key, and does a firewall let UDP through?"
        )
    if as_json:
        print_json(delays_data(host, found, whole))
    else:
        print_delays(console(), host, found, whole)
