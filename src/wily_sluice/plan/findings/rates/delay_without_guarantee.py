"""A delay without a guarantee within which it could hold."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels
from wily_sluice.units import format_time


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues if level.discipline == "curve" else ():
            delay = queue.leaf.delay
            if delay is not None and level.guarantee_of(queue) == 0:
                message = f"a delay of {format_time(delay)} needs a guarantee {level.direction}"
                yield Told(level.at(queue, "delay"), message, "add a guarantee, such as `guarantee: 10%`")


KIND = Kind(
    "delay-without-guarantee",
    "error",
    find,
    once=True,
    story="""\
A delay holds for traffic within a guarantee, because the tree serves these bytes early. Without a guarantee there
is no traffic that it could hold for.
""",
    has="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null, guarantee: null}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null, guarantee: 10%}
""",
)
