"""Draws trees of queues that a plan could describe: guarantees that fit, caps, priorities, weights, disciplines."""

from dataclasses import replace

from hypothesis import strategies as st

from wily_sluice.engine.queueing.service_curve import first_slope
from wily_sluice.engine.queueing.spec import Discipline, QueueSpec
from wily_sluice.units import MILLISECOND

PRIORITIES = st.sampled_from([1, 3, 5, 5, 9])
WEIGHTS = st.sampled_from([0.5, 1.0, 1.0, 2.0, 7.0])


DISCIPLINES: list[Discipline] = ["weighted", "weighted", "curve", "strict"]


@st.composite
def trees(
    draw: st.DrawFn, rate: int = 2_000_000, depth: int = 6, most_leaves: int = 12, disciplines: bool = True
) -> QueueSpec:
    """A root of `rate` bit/s with up to `most_leaves` leaves, at most `depth` levels below it."""
    root = QueueSpec("", rate, rate, discipline=draw(st.sampled_from(DISCIPLINES if disciplines else ["weighted"])))
    root = replace(root, children=_children(draw, root, depth, most_leaves, disciplines))
    promised = sum(leaf.guarantee for leaf in promises(root))
    return _with_delays(draw, root, [rate - promised])


def promises(spec: QueueSpec) -> list[QueueSpec]:
    """The leaves that are promised their guarantee in real time."""
    return [
        child
        for parent in spec.walk()
        if parent.discipline == "curve"
        for child in parent.children
        if child.guarantee and not child.children
    ]


def _with_delays(draw: st.DrawFn, spec: QueueSpec, room: list[int]) -> QueueSpec:
    """Give promised leaves a delay, as long as the line can keep all: `room` is what the steep first pieces may use."""
    children = []
    for child in spec.children:
        kept = _with_delays(draw, child, room)
        if spec.discipline == "curve" and child.guarantee and not child.children:
            delay = draw(st.sampled_from([None, 10, 10, 25, 100]))
            leaf = replace(child.leaf, delay=delay * MILLISECOND if delay else None)
            steeper = first_slope(child.guarantee, leaf.delay, child.largest) - child.guarantee
            if steeper <= room[0]:
                room[0] -= steeper
                kept = replace(child, leaf=leaf)
        children.append(kept)
    return replace(spec, children=tuple(children))


def _children(draw: st.DrawFn, above: QueueSpec, depth: int, leaves: int, disciplines: bool) -> tuple[QueueSpec, ...]:
    count = draw(st.integers(1 if above.path else 2, min(4, leaves)))
    parts = [draw(st.integers(0, 100)) if above.discipline != "strict" else 0 for _ in range(count)]
    spare = draw(st.integers(0, 100))  # percent of the guarantee that nobody is given
    whole = max(1, sum(parts)) * (100 + spare) / 100
    children = []
    for index, part in enumerate(parts):
        own = int(above.guarantee * part / whole)
        child = QueueSpec(
            f"{above.path}/q{index}".lstrip("/"),
            own,
            max(own, above.cap * draw(st.sampled_from([10, 30, 60, 100, 100])) // 100),
            draw(PRIORITIES),
            draw(WEIGHTS),
            discipline=draw(st.sampled_from(DISCIPLINES if disciplines else ["weighted"])),
        )
        if depth > 1 and leaves // count > 1 and draw(st.booleans()):
            child = replace(child, children=_children(draw, child, depth - 1, leaves // count, disciplines))
        children.append(child)
    return tuple(children)
