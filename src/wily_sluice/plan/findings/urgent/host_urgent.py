"""A whole computer in the queue that goes first, with everything that it does."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.urgent.first import limits_itself, urgent_rules
from wily_sluice.plan.model import Rule, Tree
from wily_sluice.units import DIRECTIONS

MOST = 0.5  # of the line: a queue that is capped at that does little harm


def find(checked: Checked) -> Iterator[Told]:
    """Each rule that asks for the local side alone, in a tree whose queue may take the line."""
    for rule, terms, path in urgent_rules(checked):
        alone = set(terms.asked) <= {"local", "network", "uplink", "when", "version"} and terms.asked
        if not alone or terms.any or terms.all or limits_itself(terms):
            continue
        if any(_takes_the_line(tree, rule) for tree in checked.plan.trees.values()):
            message = f"puts all that these hosts do into {path}, which goes first: their updates and downloads too"
            yield Told(("rules", rule.index), message, "name the urgent service (`service: calls`), or cap the queue")


def _takes_the_line(tree: Tree, rule: Rule) -> bool:
    """Whether some direction of the rule's queue is capped at more than a half, or not at all."""
    queue = next((one for one in tree.walk() if one.path == rule.queues.get(tree.name)), None)
    if queue is None or queue.leaf.delay is not None:
        return False
    caps = [queue.cap.of(way) for way in DIRECTIONS]
    return any(cap is None or (cap.share or 0) > MOST for cap in caps)


KIND = Kind(
    "host-urgent",
    "warning",
    find,
    story="""\
A device for play or work also downloads updates, pages and films. If all of its traffic is urgent, these are too,
and the other hosts wait. Name the urgent service, or cap the queue so that the rest always has room.
""",
    has="""\
rules:
  - {local: 192.0.2.40, queue: calls}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 40%}
rules:
  - {local: 192.0.2.40, queue: calls}
""",
)
