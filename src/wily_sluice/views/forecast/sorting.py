"""Where conversations go and why, as tables, sentences and data."""

import csv
import io
from collections.abc import Iterable, Mapping
from dataclasses import replace
from ipaddress import ip_address
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.plan.file.traffic_words import PROTOCOLS, dscp_text, kinds_text
from wily_sluice.plan.groups.members import host_names
from wily_sluice.plan.model import Plan
from wily_sluice.sorting.explain import UNKNOWN, Answer, Tried, Way
from wily_sluice.sorting.follow import CaptureSorting, Count, Decision, Followed
from wily_sluice.units import DIRECTIONS, Direction, format_rate, format_share, format_size
from wily_sluice.views.text.console import ARROWS, print_line
from wily_sluice.views.text.sentences import asked_text, route_words

_NAMES = {number: name for name, numbers in PROTOCOLS.items() for number in numbers}
WIDE = 118  # columns that the table of conversations takes with what was recognised


def endpoint(address: bytes, port: int) -> str:
    """`10.61.0.41:5004`, `[fd61::1]:443`, or the address alone without a port."""
    text = str(ip_address(address))
    if not port:
        return text
    return f"[{text}]:{port}" if ":" in text else f"{text}:{port}"


def protocol_name(number: int) -> str:
    """`udp`, or the number."""
    return _NAMES.get(number, str(number))


def _far(followed: Followed) -> str:
    remote = followed.parties
    port = f":{remote.remote_port}" if remote.remote_port else ""
    if followed.names:
        return f"{followed.names[0]}{port}"
    return endpoint(remote.remote, remote.remote_port)


def way_words(way: Way) -> str:
    """`rule Handsets, queue calls, under visitor-each, marked EF`."""
    text = f"rule {way.rule}" if way.rule is not None else "no rule, so the default"
    text += f", queue {way.queue}" + (", which this uplink refuses" if way.refused else "")
    if way.limiters:
        text += f", under {' and '.join(way.limiters)}"
    return text + (f", marked {dscp_text((way.mark,))}" if way.mark is not None else "")


def _tried(screen: Console, way: Way) -> None:
    rows = list(way.tried)
    if not rows:
        words = "It is the first rule." if way.rule is not None else "The plan has no rules."
        print_line(screen, Text(f"  {words}", "dim"))
        return
    table = Table(box=None, padding=(0, 2, 0, 2), show_header=True, header_style="dim")
    table.add_column("earlier rule", no_wrap=True)
    table.add_column("mismatch", no_wrap=True)
    table.add_column("wanted")
    for row in rows:
        why = Text(f"{row.field}: not known", "cyan") if row.unknown else Text(row.field, "yellow")
        table.add_row(row.rule, why, Text(asked_text(row.terms, row.field), "dim"))
    screen.print(table)


def _limits(screen: Console, plan: Plan, ways: Iterable[Way]) -> None:
    """The rates allowed by a conversation's limiters, and the limiters that do not apply now."""
    limiters = {limiter.name: limiter for limiter in plan.limiters}
    for name in dict.fromkeys(name for way in ways for name in way.limiters):
        rates = " and ".join(f"{format_rate(r)} {d}" for d in DIRECTIONS if (r := limiters[name].rate(d)) is not None)
        whom = limiters[name].per.whom
        print_line(screen, f"Limiter {name} allows {rates} {'in total' if whom == 'together' else f'for each {whom}'}.")
    for name, why in dict.fromkeys(idle for way in ways for idle in way.idle):
        print_line(screen, Text(f"Limiter {name} does not apply now: {why}.", "dim"))


def print_answer(screen: Console, plan: Plan, parties: Parties, names: tuple[str, ...], answer: Answer) -> None:
    """One conversation, on each uplink."""
    far = endpoint(parties.remote, parties.remote_port) + (f" ({', '.join(names)})" if names else "")
    called = host_names(plan).get(str(ip_address(parties.local)))
    near = endpoint(parties.local, parties.local_port) + (f" ({called})" if called else "")
    if parties.local in GATEWAY.addresses:
        near = f"{GATEWAY.name}:{parties.local_port}" if parties.local_port else GATEWAY.name
    print_line(screen, Text(f"{near} with {far}, {protocol_name(parties.protocol)}", "bold"))
    if answer.service != UNKNOWN:
        print_line(screen, f"Service {answer.service} ({answer.category}): it {answer.sign}.")
    if answer.also:
        others = ", ".join(f"{name} ({category})" for name, category in answer.also)
        print_line(screen, f"It also matches {others}; the first rule for one decides.")
    if answer.route is not None:
        print_line(screen, f"Route {answer.route.name}: over {route_words(answer.route)}.")
    tried: tuple[Tried, ...] | None = None
    for uplink, ways in answer.ways.items():
        up, down = ways["up"], ways["down"]
        for arrow, way in (("↑", up), ("↓", down)):
            print_line(screen, Text.assemble((f"{uplink} {arrow} ", "bold"), way_words(way)))
        if up.tried != tried or down.tried != tried:  # the same table is printed once
            _tried(screen, up)
            tried = up.tried
        if down.tried != up.tried:
            print_line(screen, Text("  and down:", "dim"))
            _tried(screen, down)
    _limits(screen, plan, [way for ways in answer.ways.values() for way in ways.values()])


def print_running(screen: Console, parties: Parties, known: Mapping[str, Any], answer: Answer) -> None:
    """One conversation of a running gate: its state, its queue, and the reasons."""
    followed = Followed(parties, 1)
    followed.seen, followed.likely, followed.shape = known["seen"], known["likely"], known["shape"]
    followed.names, followed.evidence = tuple(known["names"]), tuple(known["evidence"])
    followed.service, followed.category, followed.sign = answer.service, answer.category, answer.sign
    print_line(screen, Text(_title(followed), "bold"))
    if known["moved"] is not None:
        print_line(screen, f"It has moved {format_size(known['moved'])}.")
    for line in known_lines(followed):
        print_line(screen, line)
    tried: tuple[Tried, ...] | None = None
    for going in known["going"]:
        way = answer.ways[going["uplink"]][going["direction"]]
        rule = going["rule"] or None
        arrow = ARROWS[going["direction"]][0]
        own = replace(way, rule=rule, queue=going["queue"], limiters=tuple(going["limiters"]))
        print_line(screen, Text.assemble((f"{going['uplink']} {arrow} ", "bold"), way_words(own)))
        if rule == way.rule and way.tried != tried:
            _tried(screen, way)
            tried = way.tried


def print_followed(screen: Console, number: int, followed: Followed) -> None:
    """One conversation of a capture: its state, and all decisions about it."""
    print_line(screen, Text(f"{number}. {_title(followed)}", "bold"))
    count = followed.count
    print_line(screen, f"{count.packets} packets, {format_size(count.up)} up and {format_size(count.down)} down.")
    for line in known_lines(followed):
        print_line(screen, line)
    last: dict[Direction, tuple[Tried, ...]] = {}
    for decision in followed.decisions:
        packets = f", {_packets(decision)}" if decision.apart else ""
        head = f"from packet {decision.packet}{packets} {ARROWS[decision.direction][0]} "
        print_line(screen, Text.assemble((head, "bold"), way_words(decision.way)))
        if decision.way.tried not in last.values():
            _tried(screen, decision.way)
        last[decision.direction] = decision.way.tried


def _title(followed: Followed) -> str:
    parties = followed.parties
    near = endpoint(parties.local, parties.local_port)
    return f"{near} with {endpoint(parties.remote, parties.remote_port)}, {protocol_name(parties.protocol)}"


def known_lines(followed: Followed) -> list[str]:
    """The recognised protocol and names, with the evidence."""
    lines = []
    if followed.seen:
        lines.append(f"Speaks {followed.seen}.")
    elif followed.likely:
        lines.append(f"Probably speaks {followed.likely}.")
    else:
        lines.append("Its protocol was not recognised.")
    if followed.names:
        lines.append(f"Its remote is {' or '.join(followed.names)}.")
    if followed.evidence:
        lines.append(f"Seen: {'; '.join(followed.evidence)}.")
    if followed.shape:
        lines.append(f"Behaves {'interactively' if followed.shape == 'interactive' else 'in bulk'}.")
    if followed.sign:
        lines.append(f"Service {followed.service} ({followed.category}): it {followed.sign}.")
    return lines


def print_capture(screen: Console, file: str, sorting: CaptureSorting, rows: int) -> None:
    """The largest conversations of a capture, and its totals."""
    largest = sorted(enumerate(sorting.conversations, 1), key=lambda item: -item[1].count.bytes)
    table = Table(box=None, padding=(0, 1, 0, 0), title_justify="left", title_style="bold")
    count = len(sorting.conversations)
    shown = f"the {rows} largest of {count} conversations" if count > rows else f"{count} conversations"
    table.title = f"{file}: {shown}"
    wide = screen.width >= WIDE
    table.add_column("", justify="right", style="dim", no_wrap=True, min_width=len(str(count)))
    table.add_column("local", no_wrap=True)
    # Where it is narrow, the name of the remote gives way, and not the figures.
    table.add_column(
        "remote", no_wrap=True, overflow="ellipsis", max_width=None if wide else max(16, screen.width - 60)
    )
    if wide:
        table.add_column("", no_wrap=True)
    table.add_column("seen", no_wrap=True, min_width=4)
    if wide:
        table.add_column("service", no_wrap=True)
        table.add_column("rule", no_wrap=True)
    table.add_column("queue", no_wrap=True, min_width=10)
    table.add_column("↑", justify="right", no_wrap=True, min_width=8)
    table.add_column("↓", justify="right", no_wrap=True, min_width=8)
    for number, conversation in largest[:rows]:
        way = conversation.way("up") or conversation.way("down") or conversation.decisions[-1].way
        moved = len({decision.way.queue for decision in conversation.decisions if not decision.apart}) > 1
        seen = Text(
            conversation.seen or (f"{conversation.likely}?" if conversation.likely else "–"),
            "" if conversation.seen else "dim",
        )
        service = Text(conversation.service if conversation.sign else "–", "" if conversation.sign else "dim")
        rule = Text(way.rule) if way.rule is not None else Text("default", "yellow")
        cells: list[str | Text] = [endpoint(conversation.parties.local, 0), _far(conversation)]
        cells += [protocol_name(conversation.parties.protocol), seen, service, rule] if wide else [seen]
        table.add_row(
            str(number), *cells, Text(way.queue + (" ↪" if moved else ""), "cyan"), *_sizes(conversation.count)
        )
    screen.print(table)
    if any(
        len({d.way.queue for d in conversation.decisions if not d.apart}) > 1 for conversation in sorting.conversations
    ):
        print_line(screen, Text("↪ moved to this queue later: --conversation N says why", "dim"))
    tables = [
        _totals(title, totals, sorting, rows)
        for title, totals in (
            ("rule", sorting.rules),
            ("queue", sorting.queues),
            ("service", sorting.services),
            ("host", {endpoint(host, 0): total for host, total in sorting.hosts.items()}),
        )
    ]
    for row in [tables[:2], tables[2:]] if wide else [[table] for table in tables]:
        screen.print()
        side_by_side = Table.grid(padding=(0, 4, 0, 0))
        side_by_side.add_row(*row)
        screen.print(side_by_side)
    screen.print()
    for why, size in sorting.apart.items():
        print_line(screen, f"{sorting.packets_apart[why]} packets, {format_size(size)}, are {why} and bypass the gate.")
    packets = sorting.whole.packets + sum(sorting.packets_apart.values())
    print_line(screen, f"In total {packets} packets, {sorting.bytes:,} B.")


def _sizes(count: Count) -> list[str]:
    return [format_size(size) if size else "–" for size in (count.up, count.down)]


def _totals(title: str, totals: Mapping[str, Count], sorting: CaptureSorting, rows: int) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0))
    table.add_column(f"by {title}", no_wrap=True, header_style="bold", min_width=24)
    for heading in ("packets", "↑", "↓", "of all"):
        table.add_column(heading, justify="right", no_wrap=True)
    whole = max(1, sorting.whole.bytes)
    for name, count in sorted(totals.items(), key=lambda item: -item[1].bytes)[:rows]:
        share = format_share(round(count.bytes / whole, 3))
        style = "yellow" if name in ("(default)", UNKNOWN) else ""
        table.add_row(Text(name, style), str(count.packets), *_sizes(count), share)
    return table


def way_data(way: Way) -> dict[str, Any]:
    """One direction's way for JSON; `mark` is a DSCP or null."""
    return {
        "uplink": way.uplink,
        "rule": way.rule,
        "queue": way.queue,
        "limiters": list(way.limiters),
        "mark": way.mark,
        "refused": way.refused,
        "idle": dict(way.idle),
        "tried": [{"rule": tried.rule, "field": tried.field, "unknown": tried.unknown} for tried in way.tried],
    }


def _parties_data(parties: Parties) -> dict[str, Any]:
    return {
        "protocol": protocol_name(parties.protocol),
        "local": str(ip_address(parties.local)),
        "local-port": parties.local_port,
        "remote": str(ip_address(parties.remote)),
        "remote-port": parties.remote_port,
    }


def answer_data(parties: Parties, answer: Answer) -> dict[str, Any]:
    """One conversation for JSON."""
    return {
        **_parties_data(parties),
        "service": answer.service,
        "category": answer.category,
        "sign": answer.sign,
        "also": [{"service": name, "category": category} for name, category in answer.also],
        "route": answer.route.name if answer.route is not None else None,
        "uplinks": {uplink: {d: way_data(ways[d]) for d in DIRECTIONS} for uplink, ways in answer.ways.items()},
    }


def _packets(decision: Decision) -> str:
    """Which packets a decision is about, where rules tell some apart."""
    kinds = f"{kinds_text(decision.kinds)} packets" if decision.kinds else "packets"
    return kinds if decision.up_to is None else f"{kinds} of up to {format_size(decision.up_to)}"


def _decision_data(decision: Decision) -> dict[str, Any]:
    apart = {"kinds": kinds_text(decision.kinds).split(" or ") if decision.kinds else [], "up_to": decision.up_to}
    return {"packet": decision.packet, "direction": decision.direction, **apart, **way_data(decision.way)}


def _count_data(count: Count) -> dict[str, int]:
    return {"packets": count.packets, "up": count.up, "down": count.down}


def followed_data(number: int, followed: Followed) -> dict[str, Any]:
    """A conversation of a capture for JSON; sizes in bytes."""
    return {
        "number": number,
        **_parties_data(followed.parties),
        "names": list(followed.names),
        "seen": followed.seen,
        "likely": followed.likely,
        "evidence": list(followed.evidence),
        "shape": followed.shape,
        "service": followed.service,
        "category": followed.category,
        **_count_data(followed.count),
        "decisions": [_decision_data(decision) for decision in followed.decisions],
    }


def capture_data(sorting: CaptureSorting) -> dict[str, Any]:
    """A capture for JSON; sizes in bytes."""
    return {
        "bytes": sorting.bytes,
        "conversations": [
            followed_data(number, conversation) for number, conversation in enumerate(sorting.conversations, 1)
        ],
        "rules": {name: _count_data(count) for name, count in sorting.rules.items()},
        "queues": {name: _count_data(count) for name, count in sorting.queues.items()},
        "services": {name: _count_data(count) for name, count in sorting.services.items()},
        "hosts": {str(ip_address(host)): _count_data(count) for host, count in sorting.hosts.items()},
        "apart": {why: {"packets": sorting.packets_apart[why], "bytes": size} for why, size in sorting.apart.items()},
    }


def capture_csv(sorting: CaptureSorting) -> str:
    """The conversations of a capture as CSV (RFC 4180), a line each; sizes in bytes, the decision is the last."""
    text = io.StringIO()
    writer = csv.writer(text)
    parties = ("protocol", "local", "local-port", "remote", "remote-port")
    writer.writerow(
        ("number", *parties, "name", "seen", "shape", "service", "rule", "queue-up", "queue-down", "limiters",
         "packets", "up", "down")
    )  # fmt: skip
    for number, conversation in enumerate(sorting.conversations, 1):
        ways = {direction: conversation.way(direction) for direction in DIRECTIONS}
        either = ways["up"] or ways["down"]
        writer.writerow((
            number,
            *_parties_data(conversation.parties).values(),
            conversation.names[0] if conversation.names else "",
            conversation.seen,
            conversation.shape,
            conversation.service,
            (either.rule or "") if either else "",
            *(way.queue if way else "" for way in ways.values()),
            " ".join(dict.fromkeys(name for way in ways.values() if way for name in way.limiters)),
            conversation.count.packets,
            conversation.count.up,
            conversation.count.down,
        ))  # fmt: skip
    return text.getvalue()
