"""Queues whose downloads need more acknowledgements than their part of a full way up holds, or the other way round."""

from collections.abc import Iterator

from wily_sluice.engine.framing import LARGEST_PACKET
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.plan.findings.uplinks.acks_fill_uplink import ACK, EVERY
from wily_sluice.units import Direction, format_rate

OTHER: dict[Direction, Direction] = {"up": "down", "down": "up"}


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf that is not more urgent than the default, unless a rule gives acknowledgements their own queue."""
    if any(terms.kinds for _, terms in checked.asked):
        return
    used = {(uplink.name, way): root for _, uplink, way, root in checked.uses}
    for tree, uplink, way, root in checked.uses:
        other = used.get((uplink.name, OTHER[way]))
        part = uplink.framing.cost(ACK) / uplink.framing.cost(LARGEST_PACKET) / EVERY
        if other is not None:
            default = next((leaf.path for leaf in tree.leaves if leaf.default), "")
            carried = {leaf.path: leaf.cap for leaf in other.leaves()}
            for leaf in root.leaves():
                if leaf.leaf is None or leaf.leaf.refused or leaf.path not in carried or not default:
                    continue
                needed, held = round(carried[leaf.path] * part), held_when_busy(root, leaf.path, default)
                if held is not None and needed > held:
                    message = (
                        f"has {format_rate(_three(held))} {way} while others fill the line; acknowledging a full queue "
                        f"{OTHER[way]} takes {format_rate(_three(needed))}, so it is slowed {OTHER[way]}"
                    )
                    remedy = "add {packet: acknowledgement, queue: …} with a queue that has this guarantee"
                    yield Told(queue_location(tree.name, leaf.path), message, remedy)


def _three(rate: float) -> float:
    return float(f"{rate:.3g}")


def held_when_busy(spec: QueueSpec, path: str, default: str) -> int | None:
    """The rate in bit/s of a leaf when it and all queues no more urgent than the default flood, at each level.

    None if the leaf is more urgent, or if a parent does not divide its rate by weights.
    """
    rate = float(spec.cap)
    while spec.children:
        if spec.discipline != "weighted":
            return None
        own = next(child for child in spec.children if path == child.path or path.startswith(f"{child.path}/"))
        level = min(
            (child.priority for child in spec.children if f"{default}/".startswith(f"{child.path}/")), default=1
        )
        busy = [child for child in spec.children if child.priority >= level]
        if own.priority != level:
            return None
        left = max(0.0, rate - sum(child.guarantee for child in busy))
        first = [child for child in busy if child.priority == level]
        rate = min(own.cap, own.guarantee + left * own.weight / sum(child.weight for child in first))
        spec = own
    return round(rate)


KIND = Kind(
    "acks-outgrow-queue",
    "warning",
    find,
    once=True,
    story="""\
TCP acknowledges every second packet, in the queue of the download. If that queue's share of the way up is too small
for the acknowledgements, uploads in other queues slow its downloads even though the way down is free. Give
acknowledgements their own queue with a guarantee.
""",
    has="""\
uplinks:
  line: {down: 100 Mbit/s, up: 11 Mbit/s}
trees:
  main:
    queues:
      films: {weight: 0.3}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: films}
""",
    lacks="""\
uplinks:
  line: {down: 100 Mbit/s, up: 11 Mbit/s}
trees:
  main:
    queues:
      films: {weight: 3}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: films}
""",
)
