"""Which line a conversation takes: shares by weight, lines that are down, and the first route that has one."""

from collections import Counter

import pytest

from wily_sluice.engine.classify.classifier import NO_LINE, Route, Router
from wily_sluice.engine.classify.condition import All, ProtocolIs, Subject
from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation

ANY = All()


def subject(protocol: int) -> Subject:
    return Subject(Conversation(key_of(Parties(protocol, bytes(4), bytes(4), 1, 2))))


@pytest.mark.parametrize("weights", [(1.0, 1.0), (3.0, 1.0), (5.0, 3.0, 2.0), (0.5, 0.25)])
def test_conversations_are_shared_by_weight_as_exactly_as_whole_ones_can_be(weights: tuple[float, ...]) -> None:
    route = Route("", ANY, tuple(enumerate(weights)))
    taken: Counter[int] = Counter()
    for count in range(1, 200):
        taken[route.line(frozenset())] += 1
        for line, weight in enumerate(weights):
            assert abs(taken[line] - count * weight / sum(weights)) < 1


def test_lines_that_are_down_are_left_out_and_what_is_left_still_shares() -> None:
    route = Route("", ANY, ((0, 2.0), (1, 1.0), (2, 1.0)), otherwise=3)
    assert Counter(route.line(frozenset({0})) for _ in range(10)) == {1: 5, 2: 5}
    assert {route.line(frozenset({0, 1})) for _ in range(5)} == {2}
    assert route.line(frozenset({0, 1, 2})) == 3
    assert route.line(frozenset({0, 1, 2, 3})) == NO_LINE
    assert {route.line(frozenset(), spent=True) for _ in range(5)} == {3}
    back = Counter(route.line(frozenset()) for _ in range(400))
    assert all(abs(back[line] - wanted) <= 2 for line, wanted in {0: 200, 1: 100, 2: 100}.items())


def test_the_first_route_decides_that_matches_and_has_a_line() -> None:
    router = Router(
        (Route("calls", ProtocolIs(frozenset({UDP})), ((1, 1.0),)), Route("rest", ANY, ((0, 1.0),), otherwise=1))
    )
    assert router.choose(subject(UDP)) == ("calls", 1)
    assert router.choose(subject(TCP)) == ("rest", 0)
    router.down = frozenset({1})
    assert router.choose(subject(UDP)) == ("rest", 0)
    router.down = frozenset()
    assert router.choose(subject(UDP), frozenset({1})) == ("rest", 0)
    router.spent = frozenset({"calls"})
    assert router.choose(subject(UDP)) == ("rest", 0)
    router.down = frozenset({0, 1})
    assert router.choose(subject(UDP)) == ("", NO_LINE)
