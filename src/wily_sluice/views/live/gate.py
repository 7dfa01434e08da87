"""A gate that runs: its state, its seconds, events, mappings and contacts, as tables and as data."""

import json
import time
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

import click
from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.control.api.snapshot import Snapshot
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.stores import HOUR, Contact, Happened
from wily_sluice.outside.machine import COST_UNCOMPILED
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, SECOND, format_byte_rate, format_rate, format_size, iso_time, span_words
from wily_sluice.views.text.columns import Column, table_of
from wily_sluice.views.text.console import ARROWS, console, print_line

WORTH_TELLING = 1000  # packets
MUCH, TOO_MUCH, FEW = 0.005, 0.05, 1_000_000  # of what crossed an uplink; bytes of which nothing is concluded


def print_status(console: Console, status: dict[str, Any], now: datetime) -> None:
    """What runs, since when; each uplink; a trial, and who holds the plan."""
    since = datetime.fromtimestamp(status["since"], UTC)
    digest = (status["digest"] or "")[:12]
    kept = f"revision {status['revision']}" + (f" ({digest})" if digest else "") if status["revision"] else "a plan"
    console.print(
        Text.assemble(
            (f"{status['site']}", "bold"), f": {kept}, shaping for {span_words((now - since).total_seconds())}"
        )
    )
    for name, uplink in status["uplinks"].items():
        rates = f"{format_rate(uplink['down'])} down and {format_rate(uplink['up'])} up"
        here = ("", "") if uplink["here"] else ("  interface missing", "yellow")
        carried = status["condition"]["carried"].get(name)
        routed = f", {carried:,} conversations routed" if carried else ""
        if name in status["condition"]["down"]:
            here = ("  down: routes avoid it", "bold yellow")
        why = status["condition"]["why"].get(name, "")
        console.print(Text.assemble(f"  {name} on {uplink['interface']}: {rates}{routed}", here))
        if why:
            console.print(f"    {why}")
        for direction, rate in status["condition"]["found"].get(name, {}).items():
            console.print(f"    {direction}: the line varies, and carries {format_rate(rate)} now")
        _print_crossed(console, status["condition"]["crossed"].get(name, {}))
    for name in status["condition"]["down"]:
        if name not in status["uplinks"]:
            why = status["condition"]["why"].get(name, "")
            console.print(Text.assemble(f"  {name}: ", ("down: routes avoid it", "bold yellow"), f"\n    {why}"))
    trial = status["trial"]
    if trial is not None:
        left = span_words(trial["left"])
        console.print(
            f"on trial: revision {trial['revision']}, undone in {left}; `sluice keep` keeps it", style="yellow"
        )
    if status["held_by"] is not None:
        held = status["held_by"]
        console.print(f"held by {held['who']} since {held['since']}: {held['what']}")
    if status["bypassed"]:
        words = f"{status['bypassed']:,} packets came faster than the gate takes them and bypassed it"
        console.print(Text.assemble((f"{words}", "bold yellow"), ": see `sluice gate cost`"))
    if status.get("slow"):
        console.print(f"the engine is not compiled: {status['slow']}; {COST_UNCOMPILED}", style="yellow")
    if status["strained"]:
        words = "shaping uses a whole core, so rates may not be reached"
        console.print(Text.assemble((f"{words}", "bold yellow"), ": see `sluice gate cost`"))
    condition = status["condition"]
    if condition["crowd"]:
        words = "packets were shaped by host, as conversations opened faster than they can be followed"
        console.print(f"{condition['crowd']:,} {words}")
    if condition["shed"]:
        words = "packets that open conversations were dropped, as too many came at once"
        console.print(f"{condition['shed']:,} {words}", style="yellow")
    for name, packets in condition["unseen"].items():
        if packets >= WORTH_TELLING:
            console.print(f"{packets:,} packets crossed {name}, which is no uplink of the plan", style="yellow")
    if condition["unreadable"]:
        console.print(f"{condition['unreadable']:,} packets could not be parsed and used the default queue")
    for notice in status.get("notices", []):
        at = datetime.fromtimestamp(notice["at"], UTC).astimezone()
        console.print(Text.assemble((f"{at:%a %H:%M}", "yellow"), f" {notice['words']}"))
    form = "; engine compiled" if status.get("slow") == "" else ""
    console.print(f"state folder {status['state']}; clients connected: {status['clients']}{form}", style="dim")


def _print_crossed(console: Console, ways: dict[str, list[int]]) -> None:
    """Bytes on an uplink since the gate started, by its interface and by the gate."""
    for direction, (line, ours) in ways.items():
        past = max(0.0, 1 - ours / line) if line else 0.0
        words = f"    {direction}: {format_size(line)} crossed the interface, {format_size(ours)} by the gate"
        if past > MUCH and line - ours >= FEW:
            console.print(Text.assemble(f"{words}  ", (f"{past:.1%} bypassed it", "bold yellow")))
        elif ours > (1 + TOO_MUCH) * line and ours - line >= FEW:
            console.print(Text.assemble(f"{words}  ", ("more than crossed", "bold yellow")))
        else:
            console.print(words, style="dim")


WORDS = {
    "uplink.down": "{uplink} is down: {why}",
    "uplink.back": "{uplink} is used again",
    "device.shared": "{device} in {network} has {addresses} IPv4 addresses and counts as one host",
    "probe.astray": "{remotes} give no answer over {uplink}, while conversations have answers: these alone count",
    "routes.repaired": "routes of uplinks were missing, and were put back: {missing}",
    "route.missing": "there is no default route over {uplink}: conversations for it use the machine's own routes",
    "uplinks.silent": "no probe is answered over any uplink: {uplinks} are used as long as they have a link",
    "probe.unheard": "{remote} does not answer over {uplink}: the rate is found by other means",
    "probes.unusable": "no probes can be sent, so a silent uplink is not noticed: {why}",
    "routes.unusable": "the kernel refuses a route: {why}",
    "routes.shared": "{why}, as the gate does: use firewall-mark-bits {bits} and routing-preference {preference}",
    "uplink.unnamed": "traffic crosses {interface}, which is no uplink of the plan, and bypasses the gate",
    "strangers.seen": "{network} has hosts outside its subnets, such as {address}",
    "uplink.bypassed": "{part:.1%} of {uplink} bypassed the gate",
    "uplink.overcounted": "the gate counted {part:.0%} more on {uplink} than crossed its interface",
    "interface.missing": "interface {interface} is missing",
    "look.failed": "the machine cannot be surveyed: {why}",
    "task.late": "work of the kind {task} takes unusually long",
    "interface.back": "interface {interface} is back",
    "route.spent": "route {route} has used its part of the quota",
    "route.again": "route {route} is used again",
    "mapping.made": "{host} had {port} opened, outside {outside}, on {uplink} ({grant}, by {by})",
    "mapping.ended": "{port} of {host} is closed",
    "mapping.refused": "{host} asked for {port} by {by} and was refused: {why}",
    "mapping.revoked": "{who} closed port {port} of {host}",
    "port.moved": "{host} could not keep {port} toward {remote}: it became {became}",
    "chain.repaired": "the gate’s chain was removed, and repaired",
    "chain.bypassed": "a rule of another program is ahead of the gate’s chain",
    "chain.unrepaired": "the gate’s chain cannot be repaired: {why}",
    "tracking.full": "the kernel’s connection table is nearly full: {connections:,} of {limit:,}",
    "tracking.back": "the kernel’s connection table has room again: {connections:,} connections",
    "quotas.unreadable": "use of the quota of {limiter} cannot be read: {why}",
    "mappings.unusable": "ports cannot be opened: {why}",
}


def sentence(event: Happened) -> str:
    """The sentence for an event; its name and details if there is none."""
    try:
        return WORDS[event.event].format(**event.about)
    except (KeyError, ValueError):
        return " ".join((event.event, *(f"{key}={value}" for key, value in event.about.items())))


EVENT_COLUMNS: tuple[Column[Happened], ...] = (
    Column(lambda event: round(event.at, 3), "at", "When", lambda event: _when(event.at, "%Y-%m-%d %H:%M:%S")),
    Column(lambda event: event.event, "event", "What happened", sentence, folds=True),
    Column(lambda event: event.about, "about"),
)
CONTACT_COLUMNS: tuple[Column[Contact], ...] = (
    Column(lambda contact: contact.host, "host", "host"),
    Column(lambda contact: contact.name, "name", "spoke with", folds=True),
    Column(lambda contact: iso_time(contact.first), "from", "from", lambda contact: _when(contact.first)),
    Column(lambda contact: iso_time(contact.last + HOUR), "until", "until", lambda contact: _when(contact.last + HOUR)),
    Column(lambda contact: contact.hours, "hours", "in hours", right=True),
)
MAPPING_COLUMNS: tuple[Column[dict[str, Any]], ...] = (
    Column(lambda row: f"{row['name']} ({row['host']})" if row["name"] else row["host"], None, "Host", folds=True),
    Column(lambda row: f"{row['inside']}/{row['protocol']}", None, "Port", right=True, folds=True),
    Column(lambda row: _outside(row), None, "Outside", right=True, folds=True),
    Column(lambda row: row["uplink"], None, "Uplink", folds=True),
    Column(lambda row: row["service"] or row["grant"], None, "For", folds=True),
    Column(lambda row: row["by"], None, "Asked by", folds=True),
    Column(lambda row: span_words(row["left"]), None, "Left", right=True),
)


def mappings_table(rows: Sequence[dict[str, Any]]) -> Table:
    """One row for each, the same host's together."""
    return table_of(MAPPING_COLUMNS, sorted(rows, key=lambda row: (row["host"], row["protocol"], row["inside"])))


def _outside(row: dict[str, Any]) -> str:
    return str(row["outside"]) if row["address"] == row["host"] else f"{row['address']}:{row['outside']}"


def _when(at: float, form: str = "%Y-%m-%d %H:%M") -> str:
    """In this machine's time."""
    return datetime.fromtimestamp(at, UTC).astimezone().strftime(form)


IDLE = Counts()


def _mega(rate: float) -> str:
    """Mbit/s, to three figures and a thousandth at the least."""
    return f"{rate / 1e6:.3f}" if rate < 1e6 else f"{float(f'{rate / 1e6:.3g}'):g}"


def _goodput(snapshot: Snapshot, counts: Counts) -> float:
    return counts.payload * 8 * SECOND / snapshot.lasted if snapshot.lasted else 0.0


def _told(counts: Counts) -> str:
    words = [f"{n} {what}" for n, what in ((counts.drops, "dropped"), (counts.marks, "marked")) if n]
    return f" ({', '.join(words)})" if words else ""


def second_lines(plan: Plan, snapshot: Snapshot) -> list[Text]:
    """One line for each uplink and direction that has traffic, with its busy queues in Mbit/s; one for the limiters."""
    clock = time.strftime("%H:%M:%S", time.localtime(snapshot.at))
    lines = []
    width = max(len(uplink.name) for uplink in plan.uplinks)
    for uplink in plan.uplinks:
        for direction in DIRECTIONS:
            whole = snapshot.counts.get(Key("uplink", "", direction, uplink.name))
            if whole is None:
                continue
            data = _goodput(snapshot, whole)
            line = Text(f"{clock} {uplink.name:<{width}} {ARROWS[direction]:<6}", "dim")
            line.append(f"{format_rate(snapshot.framed_rate(whole)):>13}", "not dim bold" if whole.framed else "")
            line.append(f", data {_mega(data)} = {format_byte_rate(float(f'{data:.3g}'))}" if whole.framed else "")
            for leaf in plan.tree(uplink, direction).leaves:
                own = snapshot.counts.get(Key("queue", uplink.name, direction, leaf.path), IDLE)
                if own.framed or _told(own):
                    rate = _mega(snapshot.framed_rate(own))
                    line.append(f"  {leaf.path} ", "not dim cyan").append(rate, "not dim")
                    line.append(_told(own), "not dim yellow")
            lines.append(line)
    dropped = [(key, own) for key, own in snapshot.counts.items() if key.subject == "limiter" and own.drops]
    if dropped:
        line = Text(f"{clock} limiters", "dim")
        for key, own in dropped:
            line.append(f"  {key.name} {ARROWS[key.direction]} ", "not dim cyan")
            line.append(f"{own.drops} dropped", "not dim yellow")
        lines.append(line)
    return lines


def second_data(plan: Plan, snapshot: Snapshot) -> dict[str, Any]:
    """One second for JSON; rates in bit/s."""
    data: dict[str, Any] = {"time": round(snapshot.at, 3), "uplinks": {}, "limiters": {}}
    for uplink in plan.uplinks:
        ways: dict[str, Any] = {}
        data["uplinks"][uplink.name] = ways
        for direction in DIRECTIONS:
            queues = ways[direction] = {}
            for leaf in plan.tree(uplink, direction).leaves:
                own = snapshot.counts.get(Key("queue", uplink.name, direction, leaf.path), IDLE)
                queues[leaf.path] = {
                    "rate": round(snapshot.framed_rate(own)),
                    "goodput": round(_goodput(snapshot, own)),
                    "drops": own.drops,
                    "marks": own.marks,
                }
    for limiter in plan.limiters:
        for direction in DIRECTIONS:
            if limiter.rate(direction) is not None:
                own = snapshot.counts.get(Key("limiter", "", direction, limiter.name), IDLE)
                data["limiters"].setdefault(limiter.name, {})[direction] = {"drops": own.drops}
    return data


def print_data(plan: Plan, second: Snapshot) -> None:
    """One line of JSON for a second."""
    with suppress(BrokenPipeError):
        click.echo(json.dumps(second_data(plan, second)))


def print_lines(plan: Plan, second: Snapshot) -> None:
    """A second's lines."""
    with suppress(BrokenPipeError):
        for line in second_lines(plan, second):
            print_line(console(), line)
