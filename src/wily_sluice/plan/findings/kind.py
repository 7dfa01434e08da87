"""A kind of finding, and the plan under check that all kinds examine."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.asking import Terms
from wily_sluice.plan.edit.operations import Operation
from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Severity
from wily_sluice.plan.model import Plan, Route, Rule, Tree, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.reach.covered import OutOfReach, routes_out_of_reach, rules_out_of_reach
from wily_sluice.units import DIRECTIONS, Direction


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
    def out_of_reach(self) -> list[OutOfReach[Rule]]:
        """Rules that no conversation reaches."""
        return rules_out_of_reach(self.plan)

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
