"""Marks for applications, against the figures that their sources publish."""

from random import Random

import pytest

from wily_sluice.forecast.lab.marks import G711, Speech, call_mark, opinion, rating
from wily_sluice.units import MILLISECOND

DEFAULTS = Speech()


def test_the_e_model_gives_the_published_figures() -> None:
    assert round(rating(0, 0, speech=DEFAULTS), 1) == 93.2  # G.107 §7.7
    assert round(opinion(93.2), 2) == 4.41  # G.107, table B.1 and Annex B
    for r, mos in ((90, 4.34), (80, 4.03), (70, 3.60), (60, 3.10), (50, 2.58)):  # the limits of G.109's classes
        assert opinion(r) == pytest.approx(mos, abs=0.01)
    assert (opinion(0), opinion(6.5), opinion(100)) == (1, 1, 4.5)
    # Loss at 0 ms (G.107 7-29, Ie 0): 95 × Ppl / (Ppl + Bpl) less than without.
    for speech, loss, less in ((DEFAULTS, 0.01, 95 / 5.3), (G711, 0.01, 95 / 26.1), (G711, 0.05, 95 * 5 / 30.1)):
        assert rating(0, 0, speech=speech) - rating(0, loss, speech=speech) == pytest.approx(less)
    assert rating(50, 0.02, burst=2) < rating(50, 0.02)


def test_more_delay_or_loss_never_gives_a_better_mark_and_delay_counts_from_where_talk_becomes_hard() -> None:
    random = Random(107)
    for _ in range(300):
        delay, loss = random.uniform(0, 600), random.choice((0.0, random.random() ** 3))
        assert rating(delay + 10, loss) < rating(delay, loss) or rating(delay, loss) == 0
        assert rating(delay, loss + 0.01) < rating(delay, loss) or rating(delay, loss) == 0
    assert rating(100, 0) - rating(150, 0) < 2 < 10 < rating(150, 0) - rating(250, 0)


def test_a_call_is_marked_at_the_playout_delay_that_does_it_least_harm() -> None:
    even = [10 * MILLISECOND] * 1000
    mark = call_mark(even, 0.0)
    assert mark is not None and (mark.word, round(mark.r, 6)) == ("very good", round(rating(30, 0), 6))
    spikes = even[:990] + [400 * MILLISECOND] * 10  # better lost than waited for
    late = call_mark(spikes, 0.0)
    assert late is not None and late.r == pytest.approx(rating(30, 0.01), abs=0.3)
    slow, lossy = call_mark([310 * MILLISECOND] * 100, 0.0), call_mark(even, 0.2)
    assert slow is not None and slow.word == "tiring"
    assert lossy is not None and lossy.word == "poor"
    assert call_mark([], 1.0) is None
