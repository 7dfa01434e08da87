"""`sluice classify`."""

import re
from dataclasses import asdict
from datetime import datetime
from ipaddress import ip_address
from pathlib import Path
from zoneinfo import ZoneInfo

import click
from rich.progress import Progress

from wily_sluice.cli.options import (
    Refusal,
    at_option,
    choose_uplinks,
    json_option,
    plan_from,
    read_at,
    uplink_option,
)
from wily_sluice.control.client import Client
from wily_sluice.engine.classify.header import KIND_NAMES as KINDS
from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.classify.service import PROTOCOLS_SEEN
from wily_sluice.errors import RpcError
from wily_sluice.outside.files import load
from wily_sluice.plan.file.bundle import bundle_from
from wily_sluice.plan.file.traffic_words import looks_like_host_name, parse_dscp, parse_host_name, parse_protocol
from wily_sluice.plan.file.words import parse_hardware
from wily_sluice.plan.model import Plan
from wily_sluice.sorting.capture import CaptureError, Shortfall, read
from wily_sluice.sorting.explain import Described, explain
from wily_sluice.sorting.follow import CaptureSorting, Follower
from wily_sluice.units import parse_size
from wily_sluice.views.forecast.sorting import (
    answer_data,
    capture_csv,
    capture_data,
    followed_data,
    print_answer,
    print_capture,
    print_followed,
    print_running,
)
from wily_sluice.views.text.console import console, print_json

LOCAL_PORT = 49_152  # RFC 6335: the first that no service has, where none is said
TELL_EVERY = 2_000  # packets
_PARTY = re.compile(
    r"(?:\[(?P<v6>[^\]]+)\]|(?P<v4>[^\[\]:/]+)|(?P<bare>[0-9a-fA-F:]+))(?::(?P<port>\d+))?(?:/(?P<of>\w+))?"
)


class Party(click.ParamType[tuple[bytes, int, int | None]]):
    """`203.0.113.9`, `203.0.113.9:443`, `[fd61::1]:443/udp`: packed address, port or 0, protocol or None."""

    name = "party"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[bytes, int, int | None]:
        """Parse an address with its port, or the gateway's name with its."""
        if param is not None and param.name == "local":
            value = re.sub(rf"^{GATEWAY.name}\b", str(ip_address(GATEWAY.v4)), str(value))
        match = _PARTY.fullmatch(str(value))
        try:
            if match is None:
                raise ValueError
            address = ip_address(match["v6"] or match["v4"] or match["bare"]).packed
            port = int(match["port"] or 0)
            protocol = parse_protocol(match["of"])[0 if len(address) == 4 else -1] if match["of"] else None
            if not 0 <= port <= 65_535:
                raise ValueError
        except ValueError:
            if looks_like_host_name(str(value).partition(":")[0]) and param is not None and param.name == "remote":
                self.fail(f"“{value}” is a name: give it with --name, and an address with --remote", param, ctx)
            self.fail(
                f"“{value}” is not an address with a port: write it like 203.0.113.9:443/udp or [fd61::9]:443/tcp",
                param,
                ctx,
            )
        return address, port, protocol


@click.command()
@plan_from()
@click.option("--local", type=Party(), metavar="ADDRESS[:PORT]", help="One of your hosts.")
@click.option("--remote", type=Party(), metavar="ADDRESS[:PORT][/PROTOCOL]", help="The remote; TCP by default.")
@click.option("--hardware", metavar="ADDRESS", help="The hardware address of your host: 02:00:5e:10:00:01.")
@click.option("--name", "names", multiple=True, metavar="NAME", help="A host name of the remote.")
@click.option("--seen", type=click.Choice(sorted(PROTOCOLS_SEEN)), help="The protocol that was recognised.")
@click.option("--shape", type=click.Choice(["interactive", "bulk"]), help="How it behaves.")
@click.option("--dscp", metavar="DSCP", help="The DSCP of its packets: EF, CS1, 46.")
@click.option("--moved", metavar="SIZE", help="How much it has moved: 25 MB.")
@click.option("--packet", "kinds", type=click.Choice(list(KINDS)), multiple=True, help="A kind of its packets.")
@click.option("--pcap", "capture", type=click.Path(path_type=Path), metavar="FILE", help="Classify a whole capture.")
@click.option("--running", is_flag=True, help="Look the conversation up in the running gate.")
@click.option("--conversation", "number", type=int, metavar="N", help="Explain conversation N of the capture.")
@uplink_option
@click.option("--rows", type=click.IntRange(1), metavar="N", default=30, show_default=True, help="Rows of the table.")
@at_option("The time, in the site's time zone; now by default. A capture has its own times.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print the capture's conversations as CSV.")
def classify(
    plan_file: Path,
    local: tuple[bytes, int, int | None] | None,
    remote: tuple[bytes, int, int | None] | None,
    hardware: str | None,
    names: tuple[str, ...],
    seen: str | None,
    shape: str | None,
    dscp: str | None,
    moved: str | None,
    kinds: tuple[str, ...],
    capture: Path | None,
    running: bool,
    number: int | None,
    uplink: str | None,
    rows: int,
    at: str | None,
    as_json: bool,
    as_csv: bool,
) -> None:
    """Show which rule, queue and limiters a conversation gets, and why.

    Describe one conversation with --local and --remote, or give a capture (pcap or pcapng, also gzip) from the inner
    side of the gateway, where your hosts have their own addresses. --running looks the conversation up in the running
    gate, which knows its protocol and names; this needs root.

    \b
    Examples:
      sluice classify --local 10.61.0.41 --remote 203.0.113.9:443/udp --name meet.example
      sudo sluice classify --running --local 10.61.0.41:5004 --remote 203.0.113.9:5004/udp
      sluice classify --pcap morning.pcap
      sluice classify --pcap morning.pcap --conversation 3
      sluice classify --pcap morning.pcapng --csv > morning.csv
    """
    if running:
        if local is None or remote is None or capture is not None:
            raise click.UsageError("--running needs --local and --remote, each with its port")
        _show_running(local, remote, as_json)
        return
    plan = load(plan_file)
    if capture is not None:
        if local is not None or remote is not None:
            raise click.UsageError("use either --pcap or --local and --remote, not both")
        _show_capture(plan, capture, uplink, number, rows, as_json, as_csv)
        return
    if local is None or remote is None:
        raise click.UsageError("give --local and --remote, or --pcap FILE")
    if local[0] == GATEWAY.v4:
        local = GATEWAY.stranger(len(remote[0])), *local[1:]
    _check_versions(local, remote)
    if local[0] not in plan.hosts:
        networks = ", ".join(network.name for network in plan.networks)
        raise click.BadParameter(
            f"{ip_address(local[0])} is in none of your networks ({networks})", param_hint="--local"
        )
    if remote[0] in plan.hosts:
        message = f"{ip_address(remote[0])} is a local host: packets between local hosts are not shaped"
        raise click.BadParameter(message, param_hint="--remote")
    try:
        described = Described(
            Parties(
                remote[2] if remote[2] is not None else 6,
                local[0],
                remote[0],
                local[1] or (LOCAL_PORT if remote[1] else 0),
                remote[1],
            ),
            tuple(parse_host_name(name) for name in names),
            seen or "",
            1 << parse_dscp(int(dscp) if dscp.isascii() and dscp.isdigit() else dscp)[0] if dscp else 1,
            parse_size(moved) if moved else 0,
            shape or "",
            sum(KINDS[kind] for kind in set(kinds)),
            _hardware(hardware),
            frozenset(
                field
                for field, text in {
                    "service": seen or shape or names,
                    "name": names,
                    "hardware": hardware,
                    "packet": kinds,
                    "length": None,
                    "moved": moved,
                    "rate": None,
                    "dscp": dscp,
                }.items()
                if not text
            ),
        )
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    moment = read_at(plan, at) or datetime.now(ZoneInfo(plan.timezone))
    answer = explain(plan, choose_uplinks(plan, uplink), described, moment)
    if as_json:
        print_json(answer_data(described.parties, answer))
    else:
        print_answer(console(), plan, described.parties, described.names, answer)


def _hardware(text: str | None) -> bytes:
    """A hardware address; empty if none is given. ValueError if it is not one."""
    hardware = parse_hardware(text) if text else b""
    if hardware is None:
        raise ValueError(f"“{text}” is not a hardware address: write it like 02:00:5e:10:00:01")
    return hardware


def _check_versions(local: tuple[bytes, int, int | None], remote: tuple[bytes, int, int | None]) -> None:
    if len(local[0]) != len(remote[0]):
        raise click.UsageError("--local and --remote mix IPv4 and IPv6: a conversation uses one version")


def _show_running(local: tuple[bytes, int, int | None], remote: tuple[bytes, int, int | None], as_json: bool) -> None:
    """Ask the gate for the conversation's state and queue, and explain them by its plan."""
    _check_versions(local, remote)
    who = Parties(remote[2] if remote[2] is not None else 6, local[0], remote[0], local[1], remote[1])
    with Client() as client:
        try:
            look = client.call(
                "classify.look",
                protocol=who.protocol,
                local=str(ip_address(who.local)),
                local_port=who.local_port,
                remote=str(ip_address(who.remote)),
                remote_port=who.remote_port,
            )
            plan = bundle_from(client.call("plan.read")).load()
        except RpcError as error:
            raise Refusal(error.message) from None
    if look is None:
        raise Refusal(
            "the gate has no such conversation in the last minutes; give the local port too, "
            "which `sluice watch` shows for each conversation (e)"
        )
    described = Described(
        who,
        tuple(look["names"]),
        look["seen"],
        sum(1 << dscp for dscp in look["dscps"]),
        look["moved"] or 0,
        look["shape"],
    )
    uplinks = [uplink for uplink in plan.uplinks if any(uplink.name == going["uplink"] for going in look["going"])]
    answer = explain(plan, uplinks, described, datetime.now(ZoneInfo(plan.timezone)))
    if as_json:
        print_json({**answer_data(who, answer), "known": look})
    else:
        print_running(console(), who, look, answer)


def _show_capture(
    plan: Plan, file: Path, uplink: str | None, number: int | None, rows: int, as_json: bool, as_csv: bool
) -> None:
    sorting, shortfall = _follow(plan, file, uplink)
    for sentence in shortfall.sentences():
        click.echo(f"{file.name}: {sentence}", err=True)
    if number is not None:
        if not 1 <= number <= len(sorting.conversations):
            message = f"there are conversations 1 to {len(sorting.conversations)}"
            raise click.BadParameter(message, param_hint="--conversation")
        conversation = sorting.conversations[number - 1]
        if as_json:
            print_json(followed_data(number, conversation))
        else:
            print_followed(console(), number, conversation)
    elif as_json:
        print_json({**capture_data(sorting), "shortfall": asdict(shortfall)})
    elif as_csv:
        click.echo(capture_csv(sorting), nl=False)
    else:
        print_capture(console(), file.name, sorting, rows)


def _follow(plan: Plan, file: Path, uplink: str | None) -> tuple[CaptureSorting, Shortfall]:
    """The whole capture, with a bar on a terminal while it takes."""
    screen = console(stderr=True)
    follower, shortfall = Follower(plan, choose_uplinks(plan, uplink)[0]), Shortfall()
    try:
        whole = file.stat().st_size
        with Progress(console=screen, transient=True, disable=not screen.is_terminal) as progress:
            task = progress.add_task("following", total=whole)
            read_so_far = 0

            def told() -> None:
                progress.update(task, completed=read_so_far)

            for captured in read(file, shortfall):
                follower.packet(shortfall.packets, captured)
                read_so_far += captured.frame + 16
                if shortfall.packets % TELL_EVERY == 0:
                    told()
    except OSError as error:
        raise Refusal(f"cannot read {file}: {error.strerror}") from None
    except CaptureError as error:
        raise click.BadParameter(f"{file} {error}", param_hint="--pcap") from None
    return follower.finish(), shortfall
