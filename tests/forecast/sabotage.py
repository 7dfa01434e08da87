"""A plan that makes every kind of promise, and engines that keep all of them but one."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.forecast.prove.bench import NOTHING, with_queue
from wily_sluice.plan.model import Directional, Plan
from wily_sluice.plan.terms import Members
from wily_sluice.units import parse_amount

PLAN = """\
site: Promises
uplinks:
  line: {interface: wan0, down: 10 Mbit/s, up: 4 Mbit/s, tree: {down: main, up: other}, refuses: [junk]}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
  guests: {interface: lan1, subnets: [10.7.1.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 2, cap: 50%}
      work: {guarantee: 30%, priority: 5}
      bulk: {guarantee: 10%, priority: 8}
      junk: {weight: 1}
      rest: {guarantee: 20%, priority: 1, default: true}
  other:
    discipline: curve
    queues:
      calls: {guarantee: 20%, delay: 20 ms}
      work:
        weight: 8
        discipline: strict
        queues: {first: {priority: 1}, then: {priority: 2}}
      bulk: {weight: 8}
      rest: {default: true, weight: 8}
limiters:
  guest-each: {local: guests, per: host, down: 1 Mbit/s}
  gentle: {local: 10.7.0.200, down: 2 Mbit/s, engage: above 80%}
  month: {local: 10.7.0.201, down: 1 Mbit/s, quota: 40 GB per month}
  evening: {local: 10.7.0.202, down: 3 Mbit/s, when: evenings}
schedules:
  evenings: [mon-fri 18:00-22:00]
rules:
  - {name: Calls, service: calls, queue: calls}
  - {name: Marked, dscp: EF, local: house, queue: calls, mark: CS1}
  - {name: Work, local: house, port: [443/tcp, 5000], version: 4, queue: {main: work, other: work/first}}
  - {name: Long, moved: over 1 MB, queue: bulk}
  - {name: Never, protocol: udp, all: {protocol: tcp}, queue: bulk}
"""
# Two lines, and routes of which all but one have an effect.
ROUTED = """\
site: Two lines
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s, probe: [198.51.100.10]}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
trees: {main: {queues: {calls: {priority: 1, guarantee: 20%}, rest: {default: true}}}}
schedules: {evenings: [18:00-22:00]}
rules: [{protocol: udp, port: 5004, queue: calls}]
tunnels: {office: {interface: vpn0, uplink: fibre, wrapping: vxlan}}
routes:
  - {name: Calls, protocol: udp, port: 5004, uplink: mobile, else: fibre}
  - {name: Office, remote-port: 22, uplink: office}
  - {name: Shared, remote-port: 443, uplinks: {fibre: 3, mobile: 1}}
  - {name: Own, local: gateway, remote-port: 8000, uplink: mobile}
  - {name: Evening, remote-port: 8001, when: evenings, uplink: mobile}
  - {name: Spare, remote-port: 8002, uplink: fibre}
  - {name: Rest, uplink: fibre, else: mobile}
"""
Key = tuple[str, str, str]  # kind, name and place of a promise
Change = Callable[[Plan], Plan]


@dataclass(frozen=True)
class Shifted:
    """A schedule that is late by an hour."""

    schedule: Any

    @property
    def first(self) -> Any:
        return self.schedule.first

    def holds(self, moment: datetime) -> bool:
        return bool(self.schedule.holds(moment - timedelta(hours=1)))


def _queue(tree: str, path: str, **changes: Any) -> Change:
    return lambda plan: with_queue(plan, plan.trees[tree], path, **changes)


def _limiter(name: str, **changes: Any) -> Change:
    return lambda plan: replace(
        plan, limiters=tuple(replace(one, **changes) if one.name == name else one for one in plan.limiters)
    )


def _without_delay(plan: Plan) -> Plan:
    leaf = plan.trees["other"].queues[0].leaf
    return with_queue(plan, plan.trees["other"], "calls", leaf=replace(leaf, delay=None), guarantee=NOTHING)


def _one_host_free(plan: Plan) -> Plan:
    guests = next(one for one in plan.limiters if one.name == "guest-each").local
    assert guests is not None
    free = AddressSet([(bytes((10, 7, 1, 129)),) * 2])
    return _limiter("guest-each", local=replace(guests, members=Members(guests.addresses - free)))(plan)


def _without_rule(plan: Plan) -> Plan:
    return replace(plan, rules=tuple(replace(one, enabled=one.enabled and one.name != "Marked") for one in plan.rules))


def _other_default(plan: Plan) -> Plan:
    return _queue("other", "bulk", default=True)(_queue("other", "rest", default=False)(plan))


def _late(plan: Plan) -> Plan:
    return replace(plan, schedules={name: Shifted(one) for name, one in plan.schedules.items()})  # type: ignore[misc]


def _nothing_refused(plan: Plan) -> Plan:
    return replace(plan, uplinks=tuple(replace(one, refuses=frozenset()) for one in plan.uplinks))


_TWENTIETH = parse_amount("5%")
GUESTS: Key = ("limiter", "guest-each", "line down")
# Each engine, as the plan that it follows instead, and the promises that it breaks.
SABOTAGES: dict[str, tuple[Change, set[Key]]] = {
    "nothing refused": (_nothing_refused, {("refusal", "junk", "line down")}),
    "no guarantee": (_queue("main", "work", guarantee=NOTHING), {("guarantee", "work", "line down")}),
    "half a guarantee": (
        _queue("main", "bulk", guarantee=Directional(_TWENTIETH, _TWENTIETH)),
        {("guarantee", "bulk", "line down")},
    ),
    "no cap": (_queue("main", "calls", cap=NOTHING), {("cap", "calls", "line down")}),
    "no order": (_queue("other", "work/first", priority=2), {("order", "work/first", "line up")}),
    "no delay": (_without_delay, {("guarantee", "calls", "line up"), ("delay", "calls", "line up")}),
    "double rate": (_limiter("guest-each", down=2_000_000), {GUESTS}),
    "other direction": (_limiter("guest-each", down=None, up=1_000_000), {GUESTS}),
    "one host free": (_one_host_free, {GUESTS}),
    "no quota": (_limiter("month", quota=None, down=9_000_000), {("limiter", "month", "line down")}),
    "other limit": (_limiter("gentle", threshold=None, down=3_000_000), {("limiter", "gentle", "line down")}),
    "late by an hour": (_late, {("schedule", "evening", "evenings")}),
    "no rule": (_without_rule, {("rule", "Marked", "line")}),
    "other default": (_other_default, {("default", "rest", "line")}),
}


def spoilt(wanted: Plan, name: str) -> Plan:
    """What an engine follows that should follow `wanted`. Of limiters, those are on that should be."""
    enabled = {one.name: one.enabled for one in wanted.limiters}
    done = SABOTAGES[name][0](wanted)
    return replace(
        done, limiters=tuple(replace(one, enabled=one.enabled and enabled[one.name]) for one in done.limiters)
    )
