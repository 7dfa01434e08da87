"""Parents with their children, the tree itself among them."""

from collections.abc import Iterator
from typing import NamedTuple

from wily_sluice.engine.queueing.spec import Discipline
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.model import Queue, Tree


class Parent(NamedTuple):
    """What stands above some queues; `name` is that of the tree at its top."""

    tree: Tree
    name: str
    discipline: Discipline
    children: tuple[Queue, ...]


def parents(checked: Checked) -> Iterator[Parent]:
    """All of all trees."""
    for tree in checked.plan.trees.values():
        yield Parent(tree, tree.name, tree.discipline, tree.queues)
        for queue in tree.walk():
            yield Parent(tree, queue.path, queue.discipline, queue.children)
