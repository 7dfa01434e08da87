"""The queues at one level of a tree with the rates of their parent, and the highest rates that queues can reach."""

from collections.abc import Iterator
from dataclasses import dataclass

from wily_sluice.engine.queueing.spec import Discipline, QueueSpec
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import queue_location
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.model import Queue, Tree
from wily_sluice.plan.rates import cap_of, guarantee_of
from wily_sluice.units import DIRECTIONS, HIGHEST_RATE, Direction, Rate


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
