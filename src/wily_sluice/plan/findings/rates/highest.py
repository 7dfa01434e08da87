"""How much a queue can ever carry."""

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.units import Rate


def highest_rate(spec: QueueSpec) -> Rate:
    """The most that a queue can ever carry: its cap, or what its children's come to."""
    return min(spec.cap, sum(map(highest_rate, spec.children))) if spec.children else spec.cap
