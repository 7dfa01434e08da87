"""Reads a plan file: YAML, schema, then the references between its parts; tells everything that is wrong at once."""

from dataclasses import replace
from pathlib import Path

from wily_sluice.engine.addresses import AddressSet
from wily_sluice.engine.spec import LeafSpec
from wily_sluice.plan.addresses import address_set, looks_like_address
from wily_sluice.plan.check import check
from wily_sluice.plan.document import Document, Location, Reading, hold_against, read_document, suggestion
from wily_sluice.plan.finding import FileError, Finding
from wily_sluice.plan.model import Limiter, Network, Party, Plan, Queue, Rule, Tree, Uplink
from wily_sluice.plan.schema import PlanEntry, QueueEntry


def examine(path: Path) -> tuple[Plan | None, list[Finding]]:
    """Read and check a plan. The plan is None when it has errors; the findings hold its warnings as well."""
    try:
        reading = hold_against(read_document(path, "plan"), PlanEntry)
    except FileError as error:
        return None, error.findings
    findings = list(reading.findings)
    plan = None
    if reading.content is not None:
        plan = _Follower(reading, findings).plan(reading.content)
        findings += check(plan, reading)
    findings.sort(key=lambda finding: (finding.line or 0, finding.key))
    return (None if any(finding.severity == "error" for finding in findings) else plan), findings


def load(path: Path) -> Plan:
    """Read a plan that is to be used. FileError with its errors when it cannot be."""
    plan, findings = examine(path)
    if plan is None:
        raise FileError(finding for finding in findings if finding.severity == "error")
    return plan


class _Follower:
    """Turns the file's entries into the model, following names to what they stand for."""

    def __init__(self, reading: Reading[PlanEntry], findings: list[Finding]) -> None:
        self.reading = reading
        self.document: Document = reading.document
        self.findings = findings
        self.networks: dict[str, AddressSet] = {}
        self.groups: dict[str, AddressSet] = {}

    def error(self, location: Location, message: str, remedy: str = "") -> None:
        self.findings.append(self.document.error(location, message, remedy))

    def plan(self, entry: PlanEntry) -> Plan:
        uplinks = tuple(
            Uplink(name, e.interface, e.down, e.up, e.headroom, e.framing) for name, e in entry.uplinks.items()
        )
        networks = tuple(
            Network(
                name,
                e.interface,
                tuple(e.subnets),
                AddressSet(part for subnet in e.subnets for part in address_set(subnet)),
            )
            for name, e in entry.networks.items()
        )
        self.networks = {network.name: network.addresses for network in networks}
        for name in entry.groups:
            if name in self.networks:
                self.error(("groups", name), f"“{name}” is a network already", "give the group another name")
            self._group(name, entry, ())
        tree = self._tree(entry)
        limiters = tuple(
            Limiter(name, self._party(("limiters", name, "local"), e.local), e.per == "host", e.down, e.up)
            for name, e in entry.limiters.items()
        )
        rules = tuple(
            Rule(
                e.name or f"rule {place + 1}",
                place,
                self._party(("rules", place, "local"), e.local) if e.local else None,
                self._party(("rules", place, "remote"), e.remote, remote=True) if e.remote else None,
                e.protocol,
                e.port,
                e.dscp,
                self._queue(("rules", place, "queue"), e.queue, tree),
            )
            for place, e in enumerate(entry.rules)
            if e is not None
        )
        return Plan(self.document, entry.site, entry.timezone, uplinks, networks, self.groups, tree, limiters, rules)

    def _group(self, name: str, entry: PlanEntry, within: tuple[str, ...]) -> AddressSet:
        """The addresses of a group; `within` are the groups that are being worked out and led here."""
        if name in self.groups:
            return self.groups[name]
        members = AddressSet()
        for place, word in enumerate(entry.groups[name]):
            location = ("groups", name, place)
            if word in (*within, name):
                way = (*within, name)
                circle = " → ".join((*way[way.index(word) :], word))
                self.error(location, f"a group cannot hold itself: {circle}", f"take “{word}” out")
            elif word in entry.groups:
                members |= self._group(word, entry, (*within, name))
            else:
                members |= self._addresses(location, word, [*entry.groups, *self.networks])
        self.groups[name] = members
        return members

    def _addresses(self, location: Location, word: str, known: list[str]) -> AddressSet:
        if word in self.networks:
            return self.networks[word]
        if looks_like_address(word):
            try:
                return address_set(word)
            except ValueError as error:
                self.error(location, str(error))
        elif not (self.reading.was_cut("groups", word) or self.reading.was_cut("networks", word)):
            self.error(location, f"there is no group or network “{word}”", suggestion(word, known))
        return AddressSet()

    def _party(self, location: Location, words: tuple[str, ...], remote: bool = False) -> Party:
        addresses = AddressSet()
        for place, word in enumerate(words):
            where = (*location, place) if (*location, place) in self.document.lines else location
            if remote and word in self.networks:
                self.error(where, f"“{word}” is your own network; remote is the far side", f"write local: {word}")
            elif word in self.groups:
                addresses |= self.groups[word]
            else:
                addresses |= self._addresses(where, word, [*self.groups, *self.networks])
        return Party(words, addresses)

    def _tree(self, entry: PlanEntry) -> Tree:
        if not entry.trees:
            return Tree("", "weighted", ())
        name, tree = next(iter(entry.trees.items()))
        for other in list(entry.trees)[1:]:
            self.error(("trees", other), "one tree serves all uplinks for now", f"move its queues into “{name}”")
        if not tree.queues and not self.reading.was_cut("trees", name, "queues"):
            self.error(("trees", name, "queues"), "a tree needs at least one queue", "add `rest: {default: true}`")
        queues = self._queues(tree.queues, ("trees", name, "queues"), "")
        return Tree(name, tree.discipline, queues)

    def _queues(self, entries: dict[str, QueueEntry], location: Location, above: str) -> tuple[Queue, ...]:
        queues = []
        for name, e in entries.items():
            path = f"{above}/{name}" if above else name
            if e.queues is not None and not e.queues and not self.reading.was_cut(*location, name, "queues"):
                self.error((*location, name, "queues"), "a parent needs at least one child", "or take “queues” out")
            children = self._queues(e.queues or {}, (*location, name, "queues"), path)
            if e.discipline is not None and not e.queues:
                here = (*location, name, "discipline")
                self.error(here, "a leaf has nothing to divide", "only a queue with “queues” has a discipline")
            for key in ("aqm", "limit"):
                if getattr(e, key) is not None and e.queues:
                    self.error((*location, name, key), "a parent holds no packets", f"write “{key}” at its leaves")
            common = (e.guarantee, e.cap, e.priority, e.weight, e.default, e.discipline or "weighted")
            leaf = replace(e.limit or LeafSpec(), aqm=e.aqm or "fq-codel")
            queues.append(Queue(name, path, *common, leaf, children))
        return tuple(queues)

    def _queue(self, location: Location, word: str, tree: Tree) -> str:
        """The path of the leaf that is meant by its path, or by its name alone where only one has it."""
        named = [queue for queue in tree.walk() if word in (queue.path, queue.name)]
        exact = [queue for queue in named if queue.path == word]
        chosen = exact or named
        if len(chosen) > 1:
            self.error(location, f"several queues are called “{word}”", "write " + " or ".join(q.path for q in chosen))
        elif chosen and chosen[0].children:
            leaves = ", ".join(queue.path for queue in chosen[0].walk() if not queue.children)
            self.error(location, f"“{word}” is a parent, and only leaves hold packets", f"choose one of {leaves}")
        elif chosen:
            return chosen[0].path
        elif not any(cut[:1] == ("trees",) and (len(cut) < 4 or cut[-1] == word) for cut in self.reading.cut):
            paths = [queue.path for queue in tree.leaves]
            self.error(location, f"there is no queue “{word}”", suggestion(word, paths))
        return ""
