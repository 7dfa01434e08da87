"""The parts of a plan, as tables and as data."""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from wily_sluice.plan.groups.members import member_words
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import TRANSPORTS
from wily_sluice.units import DIRECTIONS, SECOND
from wily_sluice.views.plan.limiters import limiter_data, limiter_sentences
from wily_sluice.views.plan.schedules import schedule_data, schedule_parts
from wily_sluice.views.plan.tree import tree_caption, tree_data, tree_tables
from wily_sluice.views.plan.words import framing_data, framing_table, layer_table, service_data, service_table
from wily_sluice.views.text.sentences import (
    default_sentence,
    grant_sentence,
    network_sentence,
    route_sentence,
    rule_sentence,
    terms_data,
    tunnel_sentence,
    uplink_sentence,
)


def _sentences(title: str, rows: list[tuple[str, str]]) -> list[RenderableType]:
    """A table of names and sentences; nothing where there are none."""
    return [_sentence_table(title, rows)] if rows else []


def _sentence_table(title: str, rows: list[tuple[str, str]]) -> Table:
    table = Table(title=title, title_justify="left", title_style="bold", box=None, show_header=False, padding=(0, 1))
    table.add_column(style="cyan", no_wrap=True)
    table.add_column()
    for name, sentence in rows:
        table.add_row(name, sentence)
    return table


def _trees(plan: Plan, screen: Console) -> list[RenderableType]:
    every = [(uplink, tree, ways) for uplink in plan.uplinks for tree, ways in plan.trees_of(uplink)]
    tables = [table for uplink, tree, ways in every for table in tree_tables(screen, plan, uplink, tree, ways)]
    bars = any("of the line" in str(column.header) for table in tables for column in table.columns)
    return [*tables, Text(tree_caption(plan, bars), "dim")]


def part_tables(
    plan: Plan, screen: Console, moment: datetime, exact: bool = False
) -> dict[str, Callable[[], list[RenderableType]]]:
    """The parts that can be shown, by name, in their order."""
    digits = len(str(len(plan.rules)))
    rules = [(f"{index:>{digits}}. {rule.name}", rule_sentence(rule)) for index, rule in enumerate(plan.rules, 1)]
    return {
        "uplinks": lambda: _sentences("Uplinks", [(u.name, uplink_sentence(u)) for u in plan.uplinks]),
        "tunnels": lambda: _sentences("Tunnels", [(t.name, tunnel_sentence(t)) for t in plan.tunnels]),
        "networks": lambda: _sentences("Networks", [(n.name, network_sentence(n)) for n in plan.networks]),
        "hosts": lambda: _sentences(
            "Hosts", [(name, ", ".join(member_words(members))) for name, members in plan.named_hosts.items()]
        ),
        "groups": lambda: _sentences(
            "Groups",
            [(name, ", ".join(member_words(members)) or "nobody") for name, members in plan.groups.items()],
        ),
        "trees": lambda: _trees(plan, screen),
        "framings": lambda: [framing_table(screen, plan.uplinks), layer_table()],
        "services": lambda: [service_table(plan)],
        "schedules": lambda: list(schedule_parts(plan, moment, exact)),
        "limiters": lambda: _sentences("Limiters", [(lim.name, limiter_sentences(plan, lim)) for lim in plan.limiters]),
        "rules": lambda: _sentences("Rules: the first match decides", [*rules, ("", default_sentence(plan))]),
        "routes": lambda: _sentences(
            "Routes: the first match with a line that is up decides",
            [(f"{index}. {route.name}", route_sentence(route)) for index, route in enumerate(plan.routes, 1)],
        ),
        "mappings": lambda: _sentences(
            "Mappings: ports that hosts may ask for",
            [(grant.name, grant_sentence(grant)) for grant in plan.grants],
        ),
    }


def print_parts(
    console: Console, plan: Plan, parts: list[str], moment: datetime | None = None, exact: bool = False
) -> None:
    """Print some parts of a plan, a blank line between; schedules as they are in the week of a moment, or this one."""
    when = moment or datetime.now(ZoneInfo(plan.timezone))
    tables = [table for part in parts for table in part_tables(plan, console, when, exact)[part]()]
    if not tables:
        console.print(f"The plan has no {' or '.join(parts)}.")
    print_tables(console, tables)


def print_tables(console: Console, tables: Sequence[RenderableType]) -> None:
    """Print them with a blank line between."""
    for index, table in enumerate(tables):
        if index:
            console.print()
        console.print(table)


def part_data(plan: Plan, moment: datetime) -> dict[str, Any]:
    """The parts of a plan for JSON; rates in bit/s."""
    return {
        "uplinks": {
            u.name: {
                "interface": u.interface,
                "headroom": {way: u.headroom.of(way) for way in DIRECTIONS},
                "framing": u.framed.words,
                "cost": {str(length): u.framing.cost(length) for length in (100, 1500)},
                **{
                    d: {"measured": u.measured(d), "usable": u.usable(d), "goodput": round(u.goodput(u.usable(d)))}
                    for d in DIRECTIONS
                },
            }
            for u in plan.uplinks
        },
        "tunnels": {
            t.name: {
                "interface": t.interface,
                "uplink": t.uplink,
                "wrapping": t.words,
                "remote": list(t.remotes),
                "port": list(t.ports),
                "outside": {str(length): t.wrapping.outside(length) for length in (100, 1000)},
            }
            for t in plan.tunnels
        },
        "routes": [
            {
                "name": route.name,
                "uplinks": dict(route.shares),
                "else": route.otherwise,
                "terms": terms_data(route.terms),
                "enabled": route.enabled,
                "sentence": route_sentence(route),
            }
            for route in plan.routes
        ],
        "mappings": [
            {
                "name": grant.name,
                "local": list(grant.local.words),
                "ports": {TRANSPORTS[protocol]: spans for protocol, spans in grant.ports.items()},
                "count": grant.count,
                "lifetime": grant.lifetime / SECOND,
                "uplink": grant.uplink,
                "service": grant.service or None,
                "enabled": grant.enabled,
                "sentence": grant_sentence(grant),
            }
            for grant in plan.grants
        ],
        "keep-ports": list(plan.steady.words) if plan.steady is not None else [],
        "networks": {n.name: {"interface": n.interface, "subnets": list(n.subnets)} for n in plan.networks},
        "hosts": {name: member_words(members) for name, members in plan.named_hosts.items()},
        "groups": {name: member_words(members) for name, members in plan.groups.items()},
        "trees": {uplink.name: tree_data(plan, uplink) for uplink in plan.uplinks},
        "framings": framing_data(),
        "services": service_data(plan),
        "schedules": schedule_data(plan, moment),
        "limiters": {lim.name: limiter_data(plan, lim) for lim in plan.limiters},
        "rules": [
            {
                "name": rule.name,
                "queue": rule.queues,
                "mark": rule.mark,
                "terms": terms_data(rule.terms),
                "enabled": rule.enabled,
                "sentence": rule_sentence(rule),
            }
            for rule in plan.rules
        ],
    }
