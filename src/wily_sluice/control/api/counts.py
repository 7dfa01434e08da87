"""Adds up the gate's counters: by queue, limiter, host, rule, service and uplink, in each direction."""

from collections.abc import Iterable
from ipaddress import ip_address

from wily_sluice.gate.counters import CounterRow
from wily_sluice.history.counts import Counts, Key

NONE = "(none)"  # for what no rule claims, or what is of no known service


def add_up(rows: Iterable[CounterRow]) -> dict[Key, Counts]:
    """Add up by every kind of subject."""
    found: dict[Key, Counts] = {}
    for row in rows:
        for key in _keys(row):
            found.setdefault(key, Counts()).add(row)
    return found


def _keys(row: CounterRow) -> tuple[Key, ...]:
    if isinstance(row.name, str):
        own = Key("queue" if row.kind == "queue" else "limiter", row.uplink, row.direction, row.name)
        return (own, Key("uplink", "", row.direction, row.uplink)) if row.kind == "queue" else (own,)
    host, rule, service = row.name
    return (
        Key("host", "", row.direction, str(ip_address(host)) if host else NONE),
        Key("rule", "", row.direction, rule or NONE),
        Key("service", "", row.direction, service or NONE),
    )
