"""Findings about the shape of trees: defaults, unused parts, disciplines."""

from collections.abc import Iterator
from typing import NamedTuple

from wily_sluice.engine.queueing.spec import USUAL_PRIORITY, Discipline
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.finding import queue_location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import Queue, Tree
from wily_sluice.units import DIRECTIONS


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


@kind(
    "default-parent",
    "error",
    story="""\
The default queue holds packets that no rule matches. Only leaves hold packets, so a parent cannot be the default.
""",
    has="""\
trees:
  main:
    queues:
      rest: {default: true, queues: {bulk: {}, other: {}}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: null, queues: {bulk: {guarantee: 50%, default: true}, other: {guarantee: 50%}}}
rules:
  - {service: calls, queue: calls}
  - {service: files, queue: other}
""",
)
def default_parent(checked: Checked) -> Iterator[Told]:
    """A default that is a parent, and so holds no packets."""
    for tree in checked.plan.trees.values():
        for queue in tree.walk():
            if queue.default and queue.children:
                location = (*queue_location(tree.name, queue.path), "default")
                yield Told(location, "a parent cannot be the default", "use one of its leaves")


@kind(
    "default-twice",
    "error",
    story="""\
Traffic that no rule matches needs exactly one leaf. With two defaults, the choice would be arbitrary.
""",
    has="""\
trees:
  main:
    queues:
      calls: {default: true}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {default: false}
""",
)
def default_twice(checked: Checked) -> Iterator[Told]:
    """A tree with several defaults."""
    for tree in checked.plan.trees.values():
        defaults = [queue for queue in tree.walk() if queue.default]
        for queue in defaults[1:]:
            location = (*queue_location(tree.name, queue.path), "default")
            yield Told(location, f"{defaults[0].path} is already the default", "exactly one leaf is")


@kind(
    "no-default",
    "error",
    story="""\
Some traffic matches no rule, however long the list. Mark one leaf as its default, and give the leaf a guarantee so
that it cannot starve.
""",
    has="""\
trees:
  main:
    queues:
      rest: {default: false}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: true}
""",
)
def no_default(checked: Checked) -> Iterator[Told]:
    """A tree without a default leaf."""
    cut = checked.reading.cut
    for tree in checked.plan.trees.values():
        whole = not any(part[:2] in (("trees",), ("trees", tree.name)) for part in cut)
        if whole and tree.queues and not any(queue.default for queue in tree.walk()):
            message = "no leaf is the default for traffic that no rule matches"
            yield Told(("trees", tree.name), message, "add `default: true`")


@kind(
    "delay-without-curve",
    "error",
    story="""\
A promised delay is kept by a service curve, which only a parent with `discipline: curve` computes. Weighted and
strict parents divide rates and know no delays.
""",
    has="""\
trees:
  main:
    queues:
      calls: {delay: 20 ms}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null}
""",
)
def delay_without_curve(checked: Checked) -> Iterator[Told]:
    """A delay below a parent that does not keep delays."""
    for tree, name, discipline, children in parents(checked):
        for child in children:
            if child.leaf.delay is not None and discipline != "curve":
                message = f"{name} is {discipline}: only a curve parent can keep a delay"
                remedy = f"write `discipline: curve` at {name}, or remove the delay"
                yield Told((*queue_location(tree.name, child.path), "delay"), message, remedy)


@kind(
    "priority-below-curve",
    "warning",
    story="""\
A curve parent first serves packets that are close to their deadline, and divides the rest by weight. Priorities
have no effect there: give the queue a guarantee with a delay instead.
""",
    has="""\
trees:
  main:
    discipline: curve
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {priority: null}
""",
)
def priority_below_curve(checked: Checked) -> Iterator[Told]:
    """A priority below a curve parent, which knows none."""
    for tree, name, discipline, children in parents(checked):
        for child in children:
            if child.priority != USUAL_PRIORITY and discipline == "curve":
                message = f"{name} is a curve parent; its children have no priorities"
                remedy = "give it a guarantee with a delay, or a weight"
                location = (*queue_location(tree.name, child.path), "priority")
                yield Told(location, message, remedy, (Remove(location),))


@kind(
    "tree-unused",
    "warning",
    whole=True,
    story="""\
No uplink names this tree, so it shapes nothing. Perhaps an uplink lacks `tree`.
""",
    has="""\
uplinks:
  line: {tree: main}
trees:
  spare: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: {up: main, down: spare}}
trees:
  spare: {queues: {calls: {}, rest: {default: true}}}
""",
)
def tree_unused(checked: Checked) -> Iterator[Told]:
    """A tree that no uplink has."""
    for tree in checked.plan.trees:
        if checked.plan.uplinks and not any(tree in (u.tree.up, u.tree.down) for u in checked.plan.uplinks):
            yield Told(("trees", tree), "no uplink uses this tree", f"write `tree: {tree}` at an uplink")


@kind(
    "queue-unused",
    "warning",
    whole=True,
    story="""\
No rule uses this leaf, so its guarantee only benefits other queues. Perhaps a rule is missing, or the queue is left
over from an earlier plan.
""",
    has="""\
trees:
  main:
    queues:
      play: {guarantee: 10%}
""",
    lacks="""\
trees:
  main:
    queues:
      play: {guarantee: 10%}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
)
def queue_unused(checked: Checked) -> Iterator[Told]:
    """A leaf that no rule names, and that is not the default."""
    for tree in checked.plan.trees.values():
        if checked.plan.uplinks and not any(tree.name in (u.tree.up, u.tree.down) for u in checked.plan.uplinks):
            continue
        fed = {rule.queues.get(tree.name) for rule in checked.plan.rules}
        for leaf in tree.leaves:
            if leaf.path not in fed and not leaf.default:
                location = queue_location(tree.name, leaf.path)
                yield Told(location, "no rule uses this queue", "add a rule or remove it")


@kind(
    "queue-refused",
    "warning",
    story="""\
An uplink drops traffic that it `refuses`. If all uplinks refuse a queue, its traffic is always dropped.
""",
    has="""\
uplinks:
  line: {refuses: [calls]}
""",
    lacks="""\
uplinks:
  line: {refuses: [calls]}
  spare: {interface: wan1, down: 50 Mbit/s, up: 10 Mbit/s, headroom: 8%}
""",
)
def queue_refused(checked: Checked) -> Iterator[Told]:
    """A queue that every uplink refuses."""
    refusing: dict[str, list[bool]] = {}
    for use in checked.uses:
        for leaf in use.tree.leaves:
            refusing.setdefault(leaf.path, []).append(leaf.path in use.uplink.refuses)
    for name, tree in checked.plan.trees.items():
        for leaf in tree.leaves:
            if all(refusing.pop(leaf.path, [False])):
                message = "is refused by every uplink that has it, so all of its packets are dropped"
                yield Told(queue_location(name, leaf.path), message, "let one uplink carry it, or remove the queue")


@kind(
    "direction-single-queue",
    "warning",
    story="""\
A call needs both directions: it breaks up if either is full. Downloads fill the way down, backups and pictures the
way up, and each direction needs its own order.
""",
    has="""\
uplinks:
  line: {tree: {up: main, down: plain}}
trees:
  plain: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: {up: main, down: other}}
trees:
  other: {queues: {calls: {}, rest: {default: true}}}
""",
)
def direction_single_queue(checked: Checked) -> Iterator[Told]:
    """An uplink that has queues in one direction, and only one queue in the other."""
    for uplink in checked.plan.uplinks:
        names = {way: uplink.tree.of(way) for way in DIRECTIONS}
        leaves = {way: len(checked.plan.trees[name].leaves) for way, name in names.items() if name is not None}
        for way in DIRECTIONS:
            if leaves.get(way) == 1 and max(leaves.values()) > 1:
                message = f"has only one queue {way}: nothing goes first there"
                yield Told(("uplinks", uplink.name, "tree"), message, "use the same tree for both directions")
