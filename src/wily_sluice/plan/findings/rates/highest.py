"""How much a queue can ever carry."""

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.units import Rate


def highest_rate(spec: QueueSpec) -> Rate:
    """The highest rate that a queue can reach: its cap, or the sum of its children's."""
    return min(spec.cap, sum(map(highest_rate, spec.children))) if spec.children else spec.cap
