"""What the gate told last: its counters added up, and its state."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from ipaddress import ip_address
from typing import Any
from zoneinfo import ZoneInfo

from wily_sluice.engine.classify.header import parties
from wily_sluice.engine.limit.limiter import Whom
from wily_sluice.gate.look import Look
from wily_sluice.gate.observers import CounterRow, Talk
from wily_sluice.history.counts import Counts, Key, Subject
from wily_sluice.history.revisions import Revision
from wily_sluice.plan.file.traffic_words import protocol_text
from wily_sluice.plan.groups.members import host_label, host_names
from wily_sluice.plan.model import Limiter, Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.schedules.schedule import Schedule
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Nanoseconds

NONE = "(none)"  # for what no rule claims, or what is of no known service


def add_up(rows: Iterable[CounterRow]) -> dict[Key, Counts]:
    """Add up by every kind of subject."""
    sums: dict[Key, Counts] = {}
    for row in rows:
        for key in _keys(row):
            sums.setdefault(key, Counts()).add(row)
    return sums


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


PARTS: dict[Subject, str] = {"limiter": "limiters", "host": "hosts", "rule": "rules", "service": "services"}
MOST_HOSTS = 500
PER: dict[Whom, str] = {
    "together": "all matching traffic together",
    "host": "each host",
    "address": "each address",
    "subnet": "each subnet",
    "network": "each network",
    "conversation": "each conversation",
}


@dataclass(frozen=True, slots=True)
class Snapshot:
    """`at` is a moment in seconds since 1970; `lasted` how long the span before it was."""

    at: float
    lasted: Nanoseconds
    counts: dict[Key, Counts]

    def rate(self, counts: Counts) -> float:
        """Bit/s as an interface counts them."""
        return counts.bytes * 8 * SECOND / self.lasted if self.lasted else 0.0

    def framed_rate(self, counts: Counts) -> float:
        """Bit/s of the line."""
        return counts.framed * 8 * SECOND / self.lasted if self.lasted else 0.0


def counts_data(snapshot: Snapshot, counts: Counts) -> dict[str, Any]:
    """What one queue, limiter, host, rule or service did."""
    data: dict[str, Any] = {
        "rate": round(snapshot.rate(counts)),
        "bytes": counts.bytes,
        "packets": counts.packets,
        "drops": counts.drops,
        "marks": counts.marks,
        "backlog": counts.backlog,
        "backlog_packets": counts.waiting,
        "delay": {"p50": counts.delay(0.5), "p95": counts.delay(0.95), "p99": counts.delay(0.99)},
    }
    trips = {side: counts.round_trip(side == "beyond") for side in ("beyond", "inside")}
    if any(trips.values()):
        data["round_trip"] = trips
    if snapshot.lasted:
        data["busy"] = round(min(1.0, counts.busy / snapshot.lasted), 4)
    return data


def snapshot_data(plan: Plan, snapshot: Snapshot, names: Mapping[str, str] | None = None) -> dict[str, Any]:
    """For JSON. All queues are included, idle or not; others only if they were active.

    `names` are those of hosts, by address; the default is the plan's.
    """
    uplinks: dict[str, Any] = {}
    idle = Counts()
    for uplink in plan.uplinks:
        uplinks[uplink.name] = {"interface": uplink.interface}
        for direction in DIRECTIONS:
            root = resolve(plan, uplink, direction)
            queues = {}
            for spec in root.walk():
                if not spec.path:
                    continue
                below = [leaf.path for leaf in spec.leaves()]
                total = Counts()
                for path in below:
                    total.add(snapshot.counts.get(Key("queue", uplink.name, direction, path), idle))
                queues[spec.path] = {
                    **counts_data(snapshot, total),
                    "line_rate": round(snapshot.framed_rate(total)),
                    "goodput": round(total.payload * 8 * SECOND / snapshot.lasted) if snapshot.lasted else 0,
                    "guarantee": spec.guarantee,
                    "cap": spec.cap,
                    "leaf": not spec.children,
                }
            whole = snapshot.counts.get(Key("uplink", "", direction, uplink.name), idle)
            uplinks[uplink.name][direction] = {
                **counts_data(snapshot, whole),
                "line_rate": round(snapshot.framed_rate(whole)),
                "usable": uplink.usable(direction),
                "queues": queues,
            }
    parts: dict[str, dict[str, dict[Direction, Any]]] = {name: {} for name in PARTS.values()}
    nothing = counts_data(snapshot, idle)
    for limiter in plan.limiters:
        for direction in DIRECTIONS:
            cap = limiter.rate(direction)
            if cap is not None and limiter.enabled:
                about = {**nothing, "cap": cap, "per": PER[limiter.per.whom]}
                if (idle_until := _idle_until(plan, limiter, snapshot.at)) is not None:
                    about["idle"] = idle_until
                parts["limiters"].setdefault(limiter.name, {})[direction] = about
    for rule in plan.sorting:
        parts["rules"][rule.name] = dict.fromkeys(DIRECTIONS, nothing)
    names = host_names(plan) if names is None else names
    for key, counts in snapshot.counts.items():
        if key.subject in PARTS:
            part = parts[PARTS[key.subject]]
            if key.subject != "host" or key.name in part or len(part) < MOST_HOSTS:
                ways = part.setdefault(key.name, {})
                ways[key.direction] = {**ways.get(key.direction, {}), **counts_data(snapshot, counts)}
                if key.subject == "host" and key.name in names:
                    ways[key.direction]["label"] = host_label(key.name, names)
    for part in parts.values():
        for ways in part.values():  # seen in one direction's packets or the other's, and true of both
            trips = next((numbers["round_trip"] for numbers in ways.values() if "round_trip" in numbers), None)
            if trips is not None:
                ways.update({way: {**numbers, "round_trip": trips} for way, numbers in ways.items()})
    clock = datetime.fromtimestamp(snapshot.at, ZoneInfo(plan.timezone)).strftime("%H:%M:%S")
    return {
        "site": plan.site,
        "at": round(snapshot.at, 3),
        "clock": clock,
        "lasted": snapshot.lasted,
        "uplinks": uplinks,
        **parts,
    }


def _idle_until(plan: Plan, limiter: Limiter, at: float) -> str | None:
    """When a limiter applies again, such as `from 18:00`; None if it applies now."""
    schedule = plan.schedules.get(limiter.when) if limiter.when is not None else None
    if schedule is None:
        return None
    moment = datetime.fromtimestamp(at, ZoneInfo(plan.timezone))
    return None if schedule.holds(moment) else _next_words(schedule, moment.replace(second=0, microsecond=0))


@lru_cache(64)
def _next_words(schedule: Schedule, moment: datetime) -> str:
    begin = schedule.next_begin(moment)
    if begin is None:
        return "not in the next days"
    return f"from {begin:%H:%M}" if begin.date() == moment.date() else f"from {begin:%a %H:%M}"


def look_data(look: Look) -> dict[str, Any]:
    """The state of a conversation, for JSON. `dscps` are those that it carried."""
    return {
        "seen": look.seen,
        "likely": look.likely,
        "names": list(look.names),
        "evidence": list(look.evidence),
        "dscps": [dscp for dscp in range(64) if look.dscps >> dscp & 1],
        "moved": look.moved,
        "shape": look.shape,
        "going": [going._asdict() | {"limiters": list(going.limiters)} for going in look.going],
    }


def conversations_data(snapshot: Snapshot, talks: list[Talk], names: Mapping[str, str]) -> dict[str, Any]:
    """The busiest conversations, by who takes part, for JSON."""
    data: dict[str, Any] = {}
    for talk in talks:
        if not talk.key:  # all others
            continue
        who = parties(talk.key)
        name = (
            f"{ip_address(who.local)} {who.local_port} {ip_address(who.remote)} {who.remote_port} "
            f"{protocol_text((who.protocol,))}"
        )
        local = str(ip_address(who.local))
        label = f"{names.get(local, local)} {who.remote_port} {ip_address(who.remote)}"
        parts = [f"of {local}"] if local in names else []
        parts += [f"protocol {protocol_text((who.protocol,))}, local port {who.local_port}"]
        parts += [f"speaks {talk.seen}"] if talk.seen else []
        parts += [f"of service {talk.service}"] if talk.service else []
        parts.append(f"sorted to {talk.queue}" + (f" by rule {talk.rule}" if talk.rule else ", the default"))
        about = ", ".join(parts)
        data.setdefault(name, {})[talk.direction] = {
            **counts_data(snapshot, Counts(bytes=talk.bytes, packets=talk.packets)),
            "label": label,
            "about": about[0].upper() + about[1:] + ".",
        }
    return data


def revision_data(revision: Revision) -> dict[str, Any]:
    """For JSON."""
    return {
        "revision": revision.number,
        "at": revision.at,
        "who": revision.who,
        "note": revision.note,
        "digest": revision.digest,
        "state": revision.state,
        "ended": revision.ended,
        "why": revision.why,
    }
