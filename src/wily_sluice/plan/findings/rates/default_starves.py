"""A default leaf that may get nothing while others have something to send."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.highest import highest_rate
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each tree, as it is used."""
    for tree, _, way, root in checked.uses:
        for default in (leaf for leaf in tree.leaves if leaf.default):
            if first := starved_by(root, default.path):
                message = f"can starve {way}: {first} can take everything first, and it has no guarantee"
                yield Told(queue_location(tree.name, default.path), message, "add a guarantee, such as 5%")


def starved_by(spec: QueueSpec, path: str) -> str:
    """Who may take all before a leaf, at some level above it; empty where it always gets something."""
    rate = spec.cap
    while spec.children:
        own = next(child for child in spec.children if path == child.path or path.startswith(f"{child.path}/"))
        others = [child for child in spec.children if child is not own]
        earlier = [child for child in others if child.priority < own.priority and spec.discipline != "curve"]
        taken = sum(highest_rate(child) if child in earlier else child.guarantee for child in others)
        if earlier and not own.guarantee and taken >= rate:
            return " and ".join(child.path for child in earlier)
        rate = max(own.guarantee, min(own.cap, rate - taken)) if spec.discipline != "curve" else own.cap
        spec = own
    return ""


KIND = Kind(
    "default-starves",
    "warning",
    find,
    once=True,
    story="""\
The default leaf holds all traffic that no rule names: DNS, time, a new phone. More urgent queues can take the whole
uplink, and then all of that stops. A guarantee of a few percent prevents it and costs the others nothing while it
is unused.
""",
    has="""\
trees:
  main:
    queues:
      rest: {guarantee: null}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {guarantee: 1%}
""",
)
