"""A kind of finding, its example, and the plan under check that all kinds examine."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final, NamedTuple

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.queueing.spec import Discipline, QueueSpec
from wily_sluice.plan.edit.operations import Operation, Set, at
from wily_sluice.plan.edit.text import YamlText
from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.yaml_text import Location, YamlError, parse
from wily_sluice.plan.findings.finding import Severity, queue_location
from wily_sluice.plan.model import Plan, Queue, Route, Rule, Tree, Uplink
from wily_sluice.plan.rates import cap_of, guarantee_of, resolve
from wily_sluice.plan.reach.covered import OutOfReach, routes_out_of_reach, rules_out_of_reach
from wily_sluice.plan.terms import Terms
from wily_sluice.units import DIRECTIONS, HIGHEST_RATE, Direction, Rate

PLAN: Final = """\
site: Example
uplinks:
  line: {interface: wan0, down: 50 Mbit/s, up: 10 Mbit/s, headroom: 8%}
networks:
  office: {interface: lan0, subnets: [192.0.2.0/24]}
  guests: {interface: lan1, subnets: [198.51.100.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
"""


def merged(whole: Any, part: Any) -> Any:
    """A plan with changes: sets of keys are merged, `null` removes a key, anything else is replaced."""
    if not isinstance(whole, dict) or not isinstance(part, dict):
        return part
    result = {key: value for key, value in whole.items() if part.get(key, value) is not None}
    for key, value in part.items():
        if value is not None:
            result[key] = merged(whole.get(key), value)
    return result


def with_part(part: str) -> dict[str, Any]:
    """The example's data with this part of a plan, in YAML, merged into it."""
    data: dict[str, Any] = merged(parse(PLAN)[0], parse(part)[0])
    return data


def shown(part: str) -> str:
    """The part as a plan has it: with the remaining keys wherever the part removes a key."""
    try:
        text = YamlText(part)
    except YamlError:
        return part  # it is one of text that cannot be read
    whole = parse(PLAN)[0]
    operations: list[Operation] = [
        Set(location, {key: value for key, value in merged(at(whole, location), entry).items() if value is not None})
        for location in text.lines
        if isinstance(entry := at(text.data, location), dict) and None in entry.values()
    ]
    text = text.after(operations)
    return "".join(
        f"# no {line.partition(':')[0]}\n" if line.rstrip().endswith(": null") else line
        for line in text.text.splitlines(keepends=True)
    )


class Told(NamedTuple):
    """One finding: its place in the file, the problem, the remedy, and a fix if there is a safe one."""

    location: Location
    message: str
    remedy: str = ""
    fix: tuple[Operation, ...] = ()


class Use(NamedTuple):
    """A tree as it is used: by an uplink, in one direction, with every figure resolved."""

    tree: Tree
    uplink: Uplink
    direction: Direction
    root: QueueSpec


class Checked:
    """A plan under check. What several kinds of finding look at is worked out once."""

    def __init__(self, plan: Plan, reading: Reading[PlanEntry]) -> None:
        self.plan = plan
        self.reading = reading
        self.document = reading.document

    @cached_property
    def asked(self) -> list[tuple[Rule, Terms]]:
        """The rules that are not switched off, each with its terms and with all within these."""
        return [(rule, terms) for rule in self.plan.sorting for terms in rule.terms.walk()]

    @cached_property
    def hosts(self) -> AddressSet:
        """Every address of every network."""
        return self.plan.hosts

    @cached_property
    def uses(self) -> list[Use]:
        """Every tree that has an uplink, with each of its uplinks and directions."""
        uplinks = [(uplink, way, uplink.tree.of(way)) for uplink in self.plan.uplinks for way in DIRECTIONS]
        return [
            Use(tree, uplink, way, resolve(self.plan, uplink, way))
            for tree in self.plan.trees.values()
            for uplink, way, named in uplinks
            if named == tree.name
        ]

    @cached_property
    def rules_reach(self) -> tuple[list[OutOfReach[Rule]], list[Rule]]:
        """Rules that no conversation reaches, and rules too involved to say."""
        return rules_out_of_reach(self.plan)

    @property
    def out_of_reach(self) -> list[OutOfReach[Rule]]:
        """Rules that no conversation reaches."""
        return self.rules_reach[0]

    @cached_property
    def routes_out_of_reach(self) -> list[OutOfReach[Route]]:
        """Routes that no conversation reaches."""
        return routes_out_of_reach(self.plan)


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of finding.

    `code` names it, for good. `story` tells why it matters; `has` is a part of a plan that has it, and `lacks` one that
    is nearly the same and does not: see `example`. With `whole`, it is looked for only where nothing of the file was
    refused. With `once`, it is reported once a place, even if it applies to several lines and directions.
    """

    code: str
    severity: Severity
    find: Callable[[Checked], Iterator[Told]]
    whole: bool = False
    once: bool = False
    story: str = ""
    has: str = ""
    lacks: str = ""


def kind(
    code: str,
    severity: Severity,
    *,
    whole: bool = False,
    once: bool = False,
    story: str = "",
    has: str = "",
    lacks: str = "",
) -> Callable[[Callable[[Checked], Iterator[Told]]], Kind]:
    """Make a kind of finding of the function that finds it."""
    return lambda find: Kind(code, severity, find, whole, once, story, has, lacks)


def highest_rate(spec: QueueSpec) -> Rate:
    """The highest rate that a queue can reach: its cap, or the sum of its children's."""
    return min(spec.cap, sum(map(highest_rate, spec.children))) if spec.children else spec.cap


@dataclass(frozen=True, slots=True)
class Level:
    """Queues, and what stands above them: its name for a person, its path, and its rates in one direction."""

    tree: Tree
    queues: tuple[Queue, ...]
    name: str
    path: str
    discipline: Discipline
    guarantee: Rate
    cap: Rate
    direction: Direction

    @property
    def location(self) -> Location:
        """The place of the list of these queues in the file."""
        return (*queue_location(self.tree.name, self.path), "queues")

    def at(self, queue: Queue, key: str) -> Location:
        """The place of a key of a queue in the file."""
        return (*queue_location(self.tree.name, queue.path), key)

    def guarantee_of(self, queue: Queue) -> Rate:
        """A queue's guarantee as the plan gives it, which may exceed its cap."""
        return 0 if self.discipline == "strict" else guarantee_of(queue, self.direction, self.guarantee)

    def cap_of(self, queue: Queue) -> Rate:
        """A queue's cap."""
        return cap_of(queue, self.direction, self.cap)


def levels(checked: Checked) -> Iterator[Level]:
    """All of all trees, for each uplink and direction that has the tree."""
    for tree, uplink, way, root in checked.uses:
        yield from _below(Level(tree, tree.queues, uplink.name, "", tree.discipline, root.cap, root.cap, way))


def levels_at_lowest(checked: Checked) -> Iterator[Level]:
    """Those of lines that vary, when these carry the least that they may."""
    for tree, uplink, way, _ in checked.uses:
        lowest = uplink.lowest.of(way)
        if lowest is not None:
            usable = uplink.at(way, lowest).usable(way)
            yield from _below(Level(tree, tree.queues, uplink.name, "", tree.discipline, usable, usable, way))


def levels_of_no_line(checked: Checked) -> Iterator[Level]:
    """Those of trees that no uplink has, as if of a line of the highest rate: only percentages mean something there."""
    used = {use.tree.name for use in checked.uses}
    for tree in checked.plan.trees.values():
        for way in DIRECTIONS if tree.name not in used else ():
            top = (HIGHEST_RATE, HIGHEST_RATE)
            yield from _below(Level(tree, tree.queues, "the line", "", tree.discipline, *top, way))


def _below(level: Level) -> Iterator[Level]:
    yield level
    for queue in level.queues:
        if queue.children and not (level.discipline == "strict" and queue.guarantee.of(level.direction) is not None):
            rates = (level.guarantee_of(queue), level.cap_of(queue))
            yield from _below(
                Level(level.tree, queue.children, queue.path, queue.path, queue.discipline, *rates, level.direction)
            )
