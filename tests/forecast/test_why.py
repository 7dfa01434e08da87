import pytest

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import split
from wily_sluice.forecast.why import why
from wily_sluice.views.forecast.split import step_sentence, worst_sentence

SPEC = QueueSpec(
    "",
    1000,
    1000,
    children=(
        QueueSpec("first", 100, 300, priority=1),
        QueueSpec("work", 300, 1000, children=(QueueSpec("work/a", 100, 1000), QueueSpec("work/b", 0, 1000, weight=3))),
        QueueSpec("peer", 0, 1000),
        QueueSpec("last", 0, 1000, priority=9),
    ),
)


def test_each_step_says_guarantee_offer_and_what_held_it() -> None:
    # 400 guaranteed leave 600. first takes 200 up to its cap; 400 are left for work and peer, half each: work has 500.
    shares = split(SPEC, {})
    (first,) = why("first", shares)
    assert (first.share.guaranteed, first.share.offered, first.extra, first.held) == (100, 600, 200, "cap")
    work, b = why("work/b", shares)
    assert (work.share.guaranteed, work.share.offered, work.extra, work.held) == (300, 400, 200, "others")
    # Inside, a has its 100 first; of the 400 that are left b has three parts of four.
    assert (b.share.guaranteed, b.share.offered, b.extra, b.held) == (0, 400, 300, "others")
    (last,) = why("last", shares)
    assert (last.share.offered, last.held) == (0, "nothing left")
    (wanting,) = why("peer", split(SPEC, {"peer": 50}))
    assert (wanting.extra, wanting.held) == (50, "demand")
    with pytest.raises(ValueError, match="no queue is called nobody"):
        why("nobody", shares)


def test_the_sentences_say_it_with_the_figures() -> None:
    shares = split(SPEC, {})
    assert step_sentence(why("first", shares)[0], "line") == (
        "first gets 300 bit/s (37.5 B/s) of the 1 kbit/s of line. Its guarantee of 100 bit/s comes first. "
        "600 bit/s are left at priority 1; its share is 200 bit/s. Its cap of 300 bit/s limits it."
    )
    assert "shared with work/a by weight (work/b 3, work/a 1)" in step_sentence(why("work/b", shares)[1], "line")
    assert "first, work and peer come first" in step_sentence(why("last", shares)[0], "line")
    assert "can starve" in worst_sentence(shares["last"], "up", "line")
    assert "It still gets 300 bit/s" in worst_sentence(shares["first"], "up", "line")


def test_what_the_caps_leave_unusable_is_said_and_not_offered_twice() -> None:
    # Ten classes with a tenth guaranteed to one of them and caps of 50 each, on a line of 1,000: 500 can never be used.
    classes = tuple(QueueSpec(f"c{n}", 10 if n == 0 else 0, 50) for n in range(10))
    spec = QueueSpec("", 1000, 1000, children=classes)
    (step,) = why("c0", split(spec, {}))
    said = step_sentence(step, "line")
    assert "of the 1 kbit/s of line" in said
    assert "500 bit/s of line can never be used" in said
    assert "990 bit/s are left" in said
    strict = QueueSpec("", 9, 9, discipline="strict", children=(QueueSpec("a", 0, 9, priority=1), QueueSpec("b", 0, 9)))
    assert "Make line weighted" in worst_sentence(split(strict, {})["b"], "up", "line", "line")
