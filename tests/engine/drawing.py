"""Draws trees of queues that a plan could describe: guarantees that fit, caps, priorities, weights."""

from hypothesis import strategies as st

from wily_sluice.engine.spec import QueueSpec

PRIORITIES = st.sampled_from([1, 3, 5, 5, 9])
WEIGHTS = st.sampled_from([0.5, 1.0, 1.0, 2.0, 7.0])


@st.composite
def trees(draw: st.DrawFn, rate: int = 2_000_000, depth: int = 4, most_leaves: int = 12) -> QueueSpec:
    """A root of `rate` bit/s with up to `most_leaves` leaves, at most `depth` levels below it."""
    return QueueSpec("", rate, rate, children=_children(draw, "", rate, rate, depth, most_leaves))


def _children(draw: st.DrawFn, above: str, guarantee: int, cap: int, depth: int, leaves: int) -> tuple[QueueSpec, ...]:
    count = draw(st.integers(1 if above else 2, min(4, leaves)))
    parts = [draw(st.integers(0, 100)) for _ in range(count)]
    spare = draw(st.integers(0, 100))  # percent of the guarantee that nobody is given
    whole = max(1, sum(parts)) * (100 + spare) / 100
    room = [leaves // count] * count
    children = []
    for place, part in enumerate(parts):
        path = f"{above}/q{place}" if above else f"q{place}"
        own = int(guarantee * part / whole)
        own_cap = max(own, cap * draw(st.sampled_from([10, 30, 60, 100, 100])) // 100)
        nested = depth > 1 and room[place] > 1 and draw(st.booleans())
        below = _children(draw, path, own, own_cap, depth - 1, room[place]) if nested else ()
        children.append(QueueSpec(path, own, own_cap, draw(PRIORITIES), draw(WEIGHTS), below))
    return tuple(children)
