"""Reads a plan file: YAML, schema, then the references between its parts; tells everything that is wrong at once."""

import re
from dataclasses import replace
from typing import Any
from zoneinfo import ZoneInfo

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.queueing.spec import LeafSpec
from wily_sluice.plan.file.document import Document, Reading, hold_against, read_document
from wily_sluice.plan.file.schema import (
    GateEntry,
    LimiterEntry,
    PlanEntry,
    QueueEntry,
    RuleEntry,
    ScheduleEntry,
    TreeEntry,
    UplinkEntry,
)
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.file.words import address_set, suggestion
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.findings.registry import check, check_allowances
from wily_sluice.plan.lines import Grants, Lines
from wily_sluice.plan.mark_field import MarkField
from wily_sluice.plan.model import (
    Directional,
    GateSettings,
    HostNaming,
    Limiter,
    Network,
    Plan,
    Probing,
    Queue,
    Rule,
    Tree,
    Uplink,
)
from wily_sluice.plan.resolver import Resolver, by_transport
from wily_sluice.plan.schedules.moment import parse_start
from wily_sluice.plan.schedules.schedule import CalendarFile, Entries, Schedule
from wily_sluice.units import DIRECTIONS, Direction


def examine(source: Source) -> tuple[Plan | None, list[Finding]]:
    """Read and check a plan. The plan is None if it has errors; the findings include warnings."""
    try:
        return examine_document(read_document(source, "plan"))
    except FileError as error:
        return None, error.findings


def examine_document(document: Document, warnings: bool = True) -> tuple[Plan | None, list[Finding]]:
    """Check a plan that was parsed as YAML. Without `warnings`, only errors are reported."""
    plan, findings = read_with_errors(document, warnings)
    return (None if any(finding.severity == "error" for finding in findings) else plan), findings


def read_with_errors(document: Document, warnings: bool = True) -> tuple[Plan | None, list[Finding]]:
    """The same, with as much of a plan with errors as can be read; None if that is nothing."""
    reading = hold_against(document, PlanEntry)
    findings = list(reading.findings)
    plan = None
    if reading.content is not None:
        plan = _Builder(reading, findings).plan(reading.content)
        broken = _broken(findings, reading.content)
        plan_findings = check(plan, reading, warnings)
        findings += [
            finding for finding in plan_findings if finding.severity == "error" or _part(finding.key) not in broken
        ]
        findings += check_allowances(reading, findings) if warnings else []
    findings.sort(key=lambda finding: (finding.line or 0, finding.key))
    return plan, findings


def _part(key: str) -> str:
    """The rule, group or so that a finding is about: `rules[3]`, `groups.helpers`, of everything below it."""
    if key.startswith("rules["):
        return key.partition(".")[0]
    return ".".join(re.sub(r"\[\d+\]", "", key).split(".")[:2])


def _broken(findings: list[Finding], content: PlanEntry) -> set[str]:
    """Parts with an error, and rules and limiters that name a group with an error.

    Their other findings are best reported after these are corrected.
    """
    broken = {_part(finding.key) for finding in findings if finding.severity == "error"}
    groups = {name for name in content.groups if f"groups.{name}" in broken}
    while more := {
        name
        for name, entry in content.groups.items()
        if name not in groups and groups & {*entry.members, *entry.except_}
    }:
        groups |= more
    broken |= {f"groups.{name}" for name in groups}
    for name, limiter in content.limiters.items():
        if groups & {*(limiter.local or ()), *(limiter.remote or ())}:
            broken.add(f"limiters.{name}")
    for index, rule in enumerate(content.rules):
        if rule and any(groups & {*(part.said("local") or ()), *(part.said("remote") or ())} for part in rule.walk()):
            broken.add(f"rules[{index + 1}]")
    return broken


def load(source: Source) -> Plan:
    """Read a plan for use. FileError with its errors if it has any."""
    plan, findings = examine(source)
    if plan is None:
        raise FileError(finding for finding in findings if finding.severity == "error")
    return plan


class _Builder:
    """Turns the file's entries into the model, resolving names."""

    def __init__(self, reading: Reading[PlanEntry], findings: list[Finding]) -> None:
        self.reading = reading
        self.document: Document = reading.document
        self.findings = findings
        self.networks: dict[str, AddressSet] = {}
        self.called: dict[str, dict[str, list[Queue]]] = {}  # in each tree, by path and by name
        self.resolve = Resolver(reading, {}, findings.append)

    def error(self, location: Location, message: str, remedy: str = "", code: str = "does-not-fit") -> None:
        self.findings.append(self.document.error(location, message, remedy, code))

    def plan(self, entry: PlanEntry) -> Plan:
        networks = tuple(
            Network(
                name,
                e.interface,
                tuple(e.subnets),
                AddressSet(part for subnet in e.subnets for part in address_set(subnet)),
                e.hosts,
            )
            for name, e in entry.networks.items()
        )
        self.networks = {network.name: network.addresses for network in networks}
        self.resolve = Resolver(self.reading, self.networks, self.findings.append)
        for kind, names in (("networks", entry.networks), ("groups", entry.groups), ("hosts", entry.hosts)):
            if GATEWAY.name in names:
                message = f"“{GATEWAY.name}” is this machine itself in every plan"
                self.error((kind, GATEWAY.name), message, "choose another name")
        for name in entry.groups:
            if name in self.networks:
                self.error(("groups", name), f"“{name}” is a network already", "give the group another name")
            self.resolve.groups.group(name)
        for name in entry.hosts:
            for kind, others in (("network", self.networks), ("group", entry.groups)):
                if name in others:
                    self.error(("hosts", name), f"“{name}” is a {kind} already", "give the host another name")
            self.resolve.groups.group(name)
        self.lines = Lines(self.reading, self.resolve, entry, self.error)
        trees = {name: self._tree(name, e) for name, e in entry.trees.items()}
        for name, line in entry.uplinks.items():
            if (line.down.lowest or line.up.lowest) and line.probe is None:
                remedy = "add `probe: [ADDRESS]` of a remote that answers echoes"
                self.error(("uplinks", name, "probe"), "the rate of a line that varies is found by its delay", remedy)
        uplinks = tuple(
            Uplink(
                name,
                e.interface,
                e.down.highest,
                e.up.highest,
                e.headroom,
                e.framing,
                self._tree_names(name, e, trees),
                e.advertised,
                e.honours_marks,
                Probing(tuple(e.probe.remotes), e.probe.within, e.probe.lost) if e.probe is not None else None,
                tuple(e.next_hop),
                Directional(e.up.lowest, e.down.lowest),
                self._refused(name, e, trees),
            )
            for name, e in entry.uplinks.items()
        )
        tunnels = tuple(self.lines.tunnel(name, e) for name, e in entry.tunnels.items())
        schedules = {name: self._schedule(name, e, entry.timezone) for name, e in entry.schedules.items()}
        limiters = tuple(self._limiter(name, e, entry) for name, e in entry.limiters.items())
        rules = tuple(self._rule(index, e, trees) for index, e in enumerate(entry.rules) if e is not None)
        granting = Grants(self.resolve, list(entry.uplinks), self.error)
        grants = tuple(granting.grant(index, e) for index, e in enumerate(entry.mappings) if e is not None)
        routes = tuple(self.lines.route(index, e, limiters) for index, e in enumerate(entry.routes) if e is not None)
        if entry.services or entry.catalogues:
            self.resolve.services.all()  # so that mistakes in them are reported, used or not
        return Plan(
            self.document,
            entry.site,
            entry.timezone,
            uplinks,
            networks,
            {name: members for name, members in self.resolve.groups.found.items() if name not in entry.hosts},
            trees,
            schedules,
            limiters,
            rules,
            self.resolve.services.used,
            GateSettings(
                entry.gate.watchers,
                entry.gate.metrics,
                tuple(entry.gate.probe),
                entry.gate.keep_contacts,
                entry.gate.notify,
                HostNaming(tuple(entry.gate.names.leases), entry.gate.names.reverse),
                entry.gate.ipfix,
                self._marks(entry.gate, len(uplinks) + len(tunnels)),
            ),
            {name: members for name, members in self.resolve.groups.found.items() if name in entry.hosts},
            tunnels,
            routes,
            grants,
            granting.steady(entry.nat),
        )

    def _marks(self, entry: GateEntry, lines: int) -> MarkField:
        """The firewall marks of routes, which tell all uplinks and tunnels apart."""
        lowest, highest = entry.firewall_mark_bits
        marks = MarkField(lowest, highest, entry.routing_preference)
        if marks.most < lines:
            message = f"bits {marks} tell {marks.most} uplinks and tunnels apart; this plan has {lines}"
            self.error(("gate", "firewall-mark-bits"), message, "use more bits")
        return marks

    def _rule(self, index: int, e: RuleEntry, trees: dict[str, Tree]) -> Rule:
        here = ("rules", index)
        if e.queue is None and e.mark is None and not any(self.reading.was_cut(*here, k) for k in ("queue", "mark")):
            self.error(here, "has neither a queue nor a mark", "add `queue: calls`, `mark: EF` or both")
        queues = self._queues_of((*here, "queue"), e.queue, trees) if e.queue is not None else {}
        return Rule(
            e.name or f"rule {index + 1}", index, self.resolve.terms(here, e), queues, e.mark, e.enabled, e.note
        )

    def _schedule(self, name: str, entry: ScheduleEntry, zone: str) -> Schedule:
        entries = Entries()
        for index, line in enumerate(entry.windows):
            places = (("schedules", name, index), ("schedules", name, "windows", index))
            location: Location = next((place for place in places if place in self.document.lines), ("schedules", name))
            try:
                entries.add(line)
            except ValueError as error:
                self.error(location, str(error))
        calendars = []
        for word in entry.calendar:
            source = self.document.beside(word)
            try:
                calendars.append(CalendarFile(source, ZoneInfo(zone)))
            except OSError as error:
                message = f"{source.name} cannot be read: {error.strerror}"
                self.error(("schedules", name, "calendar"), message, "name a file in the folder of the plan")
            except ValueError as error:
                self.error(("schedules", name, "calendar"), str(error), "write a calendar of RFC 5545")
        return Schedule(
            name, tuple(entries.windows), tuple(entries.exceptions), entries.first, entries.last, tuple(calendars)
        )

    def _limiter(self, name: str, e: LimiterEntry, entry: PlanEntry) -> Limiter:
        here = ("limiters", name)
        local = self.resolve.party((*here, "local"), e.local) if e.local is not None else None
        network = self.resolve.in_networks((*here, "network"), e.network) if e.network is not None else None
        self.resolve.require((*here, "uplink"), "uplink", e.uplink, list(entry.uplinks))
        self.resolve.require((*here, "when"), "schedule", e.when, list(entry.schedules))
        starts = 1 if e.quota is None or e.quota.period == "month" else 0
        if e.starts is not None:
            try:
                starts = parse_start(e.starts, e.quota.period if e.quota is not None else None)
            except ValueError as error:
                self.error((*here, "starts"), str(error))
        asked: dict[str, Any] = {"protocol": e.protocol} if e.protocol is not None else {}
        if e.port is not None:
            asked["port"] = self.resolve.groups.ports((*here, "port"), e.port)
        asked, transports = by_transport(asked)
        return Limiter(
            name,
            local,
            self.resolve.party((*here, "remote"), e.remote, remote=True) if e.remote is not None else None,
            asked.get("protocol"),
            asked.get("port"),
            e.uplink,
            e.per,
            e.down,
            e.up,
            e.burst,
            e.round_trip,
            *e.excess,
            e.excess_burst,
            e.peak or Directional(None, None),
            e.engage,
            e.when,
            e.quota,
            e.quota_from,
            starts,
            e.enabled,
            e.note,
            self.resolve.services.named((*here, "service"), e.service) if e.service is not None else None,
            e.service or (),
            transports,
            network,
        )

    def _tree(self, name: str, entry: TreeEntry) -> Tree:
        if not entry.queues and not self.reading.was_cut("trees", name, "queues"):
            self.error(("trees", name, "queues"), "a tree needs at least one queue", "add `rest: {default: true}`")
        return Tree(name, entry.discipline, self._queues(entry.queues, ("trees", name, "queues"), ""))

    def _tree_names(self, uplink: str, entry: UplinkEntry, trees: dict[str, Tree]) -> Directional[str]:
        """The names of an uplink's trees; where there is but one tree, it need not be named."""
        location = ("uplinks", uplink, "tree")
        only = next(iter(trees)) if len(trees) == 1 else None
        named: dict[Direction, str | None] = {}
        reported: set[str] = set()
        for direction in DIRECTIONS:
            name = entry.tree.of(direction)
            if name is not None and name not in (*trees, *reported) and not self.reading.was_cut("trees", name):
                reported.add(name)
                here = (*location, direction) if (*location, direction) in self.document.lines else location
                self.error(here, f"there is no tree “{name}”", suggestion(name, list(trees)), "unknown-name")
            if name is None and only is None and trees and not self.reading.was_cut(*location):
                remedy = f"add `tree: {next(iter(trees))}` to {uplink}"
                self.error(location, f"there are {len(trees)} trees, and none is named for {direction}", remedy)
            named[direction] = name if name in trees else only
        return Directional(named["up"], named["down"])

    def _refused(self, uplink: str, entry: UplinkEntry, trees: dict[str, Tree]) -> frozenset[str]:
        """The paths of the leaves that an uplink refuses, in each of its trees that has them."""
        here = ("uplinks", uplink, "refuses")
        paths = set()
        for index, word in enumerate(entry.refuses):
            where = (*here, index) if (*here, index) in self.document.lines else here
            for name, path in self._queues_of(where, {"": word}, trees).items():
                paths.add(path)
                if any(leaf.default and leaf.path == path for leaf in trees[name].leaves):
                    message = f"“{word}” is the default: all that no rule is for would be dropped"
                    self.error(where, message, "name another queue")
        return frozenset(paths)

    def _queues(self, entries: dict[str, QueueEntry], location: Location, above: str) -> tuple[Queue, ...]:
        queues = []
        for name, e in entries.items():
            path = f"{above}/{name}" if above else name
            if e.queues is not None and not e.queues and not self.reading.was_cut(*location, name, "queues"):
                self.error((*location, name, "queues"), "a parent needs at least one child", "or remove “queues”")
            children = self._queues(e.queues or {}, (*location, name, "queues"), path)
            if e.discipline is not None and not e.queues:
                here = (*location, name, "discipline")
                self.error(here, "a leaf has no discipline", "only a parent has one")
            for key in ("aqm", "limit", "fair-by", "ecn", "delay"):
                if getattr(e, key.replace("-", "_")) is not None and e.queues:
                    self.error((*location, name, key), "a parent holds no packets", f"write “{key}” at its leaves")
            if e.fair_by is not None and e.aqm not in (None, "fq-codel"):
                here = (*location, name, "fair-by")
                self.error(here, f"{e.aqm} has one queue for everything", "remove it, or write `aqm: fq-codel`")
            if e.ecn and e.aqm == "fifo":
                here = (*location, name, "ecn")
                self.error(here, "a fifo does not mark", "remove it, or write `aqm: codel`")
            common = (e.guarantee, e.cap, e.priority, e.weight, e.default, e.discipline or "weighted")
            leaf = replace(
                e.limit or LeafSpec(),
                aqm=e.aqm or "fq-codel",
                fair_by=e.fair_by or "conversation",
                ecn=e.ecn is not False,
                delay=e.delay,
            )
            queues.append(Queue(name, path, *common, leaf, children))
        return tuple(queues)

    def _queues_of(self, location: Location, words: dict[str, str], trees: dict[str, Tree]) -> dict[str, str]:
        """The path of a rule's leaf in each tree that has it."""
        common = words.get("")
        if common is not None:
            queues = {name: self._queue(location, common, tree) for name, tree in trees.items()}
            if not any(queues.values()) and all(path is None for path in queues.values()):
                self._no_queue(location, common, [leaf.path for tree in trees.values() for leaf in tree.leaves])
            return {name: path for name, path in queues.items() if path}
        paths = {}
        for name, word in words.items():
            here = (*location, name)
            if name not in trees:
                if not self.reading.was_cut("trees", name):
                    self.error(here, f"there is no tree “{name}”", suggestion(name, list(trees)), "unknown-name")
            elif path := self._queue(here, word, trees[name]):
                paths[name] = path
            elif path is None:
                self._no_queue(here, word, [leaf.path for leaf in trees[name].leaves])
        return paths

    def _no_queue(self, location: Location, word: str, paths: list[str]) -> None:
        if not any(cut[:1] == ("trees",) and (len(cut) < 4 or cut[-1] == word) for cut in self.reading.cut):
            self.error(
                location, f"there is no queue “{word}”", suggestion(word, list(dict.fromkeys(paths))), "unknown-name"
            )

    def _queue(self, location: Location, word: str, tree: Tree) -> str | None:
        """The path of the leaf that a word names by its path, or by its last part if only one leaf has it.

        None if the tree has no such queue, empty if the problem was reported already.
        """
        called = self.called.get(tree.name)
        if called is None:
            called = self.called[tree.name] = {}
            for queue in tree.walk():
                for name in {queue.path, queue.name}:
                    called.setdefault(name, []).append(queue)
        named = called.get(word, [])
        exact = [queue for queue in named if queue.path == word]
        chosen = exact or named
        if not chosen:
            return None
        if len(chosen) > 1:
            self.error(location, f"several queues are called “{word}”", "write " + " or ".join(q.path for q in chosen))
        elif chosen[0].children:
            leaves = ", ".join(queue.path for queue in chosen[0].walk() if not queue.children)
            self.error(location, f"“{word}” is a parent; only leaves hold packets", f"choose one of {leaves}")
        else:
            return chosen[0].path
        return ""
