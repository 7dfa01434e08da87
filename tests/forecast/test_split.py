import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.engine.drawing import trees
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import split


def root(*children: QueueSpec) -> QueueSpec:
    return QueueSpec("", 1000, 1000, children=children)


def rates(spec: QueueSpec, **demands: int) -> dict[str, float]:
    return {path: share.rate for path, share in split(spec, demands).items() if path}


def test_guarantees_first_then_priority_then_weight() -> None:
    spec = root(
        QueueSpec("first", 100, 300, priority=1),
        QueueSpec("light", 200, 1000, weight=1),
        QueueSpec("heavy", 100, 1000, weight=3),
        QueueSpec("last", 50, 1000, priority=9),
    )
    # 450 guaranteed leave 550. Priority 1 takes 200 up to its cap; 350 go 1:3, 87.5 and 262.5; nothing is left for 9.
    assert rates(spec) == {"first": 300, "light": 287.5, "heavy": 362.5, "last": 50}


def test_what_one_does_not_want_is_the_others() -> None:
    spec = root(QueueSpec("a", 600, 1000), QueueSpec("b", 0, 1000), QueueSpec("c", 0, 1000, weight=3))
    # a wants 100 of its 600; b is satisfied with 60 of the 225 that are its part; c has the rest.
    assert rates(spec, a=100, b=60) == {"a": 100, "b": 60, "c": 840}


def test_a_parent_wants_what_its_children_want() -> None:
    work = QueueSpec("work", 500, 800, children=(QueueSpec("work/x", 300, 800), QueueSpec("work/y", 100, 200)))
    spec = root(work, QueueSpec("rest", 0, 1000))
    assert rates(spec, **{"work/x": 50}) == {"work": 250, "work/x": 50, "work/y": 200, "rest": 750}
    # All hungry: 500 guaranteed, 500 more shared 1:1 up to the cap of 800, so 750; inside, 300 and 100, and 350 left
    # of which y takes 100 up to its cap.
    assert rates(spec) == {"work": 750, "work/x": 550, "work/y": 200, "rest": 250}


def test_a_demand_for_what_is_no_leaf_is_refused() -> None:
    with pytest.raises(ValueError, match="no leaf is called b; there are a"):
        split(root(QueueSpec("a", 0, 1000)), {"b": 1})


@given(trees(1_000_000), st.data())
def test_what_must_hold_for_every_split(spec: QueueSpec, data: st.DataObject) -> None:
    leaves = [leaf.path for leaf in spec.leaves()]
    demands = data.draw(st.dictionaries(st.sampled_from(leaves), st.integers(0, 1_000_000)))
    shares = split(spec, demands)
    for queue in spec.walk():
        share = shares[queue.path]
        assert share.rate <= queue.cap + 1e-6
        if queue.children:
            assert sum(shares[child.path].rate for child in queue.children) == pytest.approx(share.rate, abs=1e-3)
        else:
            want = demands.get(queue.path, queue.cap)
            assert min(want, queue.guarantee) - 1e-3 <= share.rate <= want + 1e-6
    # Nothing is left over while somebody could take it: each unsatisfied leaf has a full queue somewhere above it.
    full = {path for path, share in shares.items() if share.rate >= share.spec.cap - 1e-3}
    for leaf in leaves:
        if shares[leaf].rate < demands.get(leaf, shares[leaf].spec.cap) - 1e-3:
            parts = leaf.split("/")
            assert full & {"", *("/".join(parts[: n + 1]) for n in range(len(parts)))}


def test_a_curve_parent_divides_all_by_weight_and_gives_nobody_less_than_its_guarantee() -> None:
    a, b, c = (QueueSpec(name, g, 1000, weight=w) for name, g, w in (("a", 500, 1.0), ("b", 100, 2.0), ("c", 0, 1.0)))
    root = QueueSpec("", 1000, 1000, children=(a, b, c), discipline="curve")

    def rates(**demands: int) -> list[float]:
        return [round(split(root, demands)[name].rate, 6) for name in "abc"]

    # By weight a would have 250: its guarantee of 500 is more. The other 500 go 2 to 1.
    assert rates() == [500, round(1000 / 3, 6), round(500 / 3, 6)]
    # b wants 100; the 900 that are left would be 450 each for a and c, and a has 500 by its guarantee.
    assert rates(b=100) == [500, 100, 400]
    # Without a, b and c have 2 to 1 of all; with a at 300, of what it leaves.
    assert rates(a=0) == [0, round(2000 / 3, 6), round(1000 / 3, 6)]
    assert rates(a=300) == [300, round(1400 / 3, 6), round(700 / 3, 6)]
    # All that a wants, but no more, when the others want little.
    assert rates(b=0, c=200) == [800, 0, 200]
