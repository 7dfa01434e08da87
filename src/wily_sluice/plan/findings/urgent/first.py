"""The most urgent queues, and the rules that use them."""

from collections.abc import Iterator

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.model import Queue, Rule, Tree


def urgent(tree: Tree) -> set[str]:
    """The paths of the leaves that go first: below the children of the earliest priority, if the default is not one of
    them; below a curve parent, those with the shortest delay.
    """
    found = _first(tree.queues, tree.discipline == "curve")
    return set() if any(leaf.default for leaf in found) else {leaf.path for leaf in found}


def _first(queues: tuple[Queue, ...], curve: bool) -> list[Queue]:
    if curve:
        delays = [queue.leaf.delay for queue in queues if queue.leaf.delay is not None]
        chosen = [queue for queue in queues if delays and queue.leaf.delay == min(delays)]
    else:
        first = min((queue.priority for queue in queues), default=0)
        chosen = [queue for queue in queues if queue.priority == first]
    if len(chosen) == len(queues):
        return []
    found: list[Queue] = []
    for queue in chosen:
        leaves = [leaf for leaf in queue.walk() if not leaf.children]
        found += (_first(queue.children, queue.discipline == "curve") or leaves) if queue.children else leaves
    return found


def urgent_rules(checked: Checked) -> Iterator[tuple[Rule, Terms, str]]:
    """The rules that put something into an urgent queue, with each of their terms and the queue."""
    first = {name: urgent(tree) for name, tree in checked.plan.trees.items()}
    for rule in checked.plan.sorting:
        path = next((path for name, path in rule.queues.items() if path in first[name]), None)
        if path is not None:
            yield rule, rule.terms, path


def limits_itself(terms: Terms) -> bool:
    """Whether a rule asks for something that bulk is not: small packets, little moved, a shape, no great rate."""
    return any(
        part.moved or part.rate or part.kinds or "length" in part.asked or "dscp" in part.asked for part in terms.walk()
    )
