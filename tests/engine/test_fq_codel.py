from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from tests.engine.driving import conversation, packet
from wily_sluice.engine.fq_codel import FEW_IDLE, FqCodel
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.turns import FIRST_LEVEL
from wily_sluice.units import MILLISECOND, SECOND


def jain(shares: list[int]) -> float:
    """Jain's fairness index: 1 for equal shares, 1/n when one has all."""
    return sum(shares) ** 2 / (len(shares) * sum(share**2 for share in shares))


def test_conversations_share_by_bytes_whatever_their_packet_sizes() -> None:
    queue = FqCodel(lambda _: None)
    who = {conversation(port): 64 + 60 * port for port in range(1, 25)}  # 124 to 1504 bytes
    got: Counter[object] = Counter()
    for _ in range(60):
        for conv, size in who.items():
            for _ in range(2000 // size + 1):
                queue.enqueue(packet(size, conv), 0)
    for _ in range(2500):
        sent = queue.dequeue(0)
        assert sent is not None
        got[sent.conversation] += sent.size
    assert jain([got[conv] for conv in who]) >= 0.99


def test_a_sparse_conversation_goes_before_those_that_flood() -> None:
    queue = FqCodel(lambda _: None)
    for flood in [conversation(port) for port in range(1, 9)]:
        for _ in range(50):
            queue.enqueue(packet(1500, flood), 0)
    for _ in range(100):
        queue.dequeue(MILLISECOND)
    caller = conversation(99)
    queue.enqueue(packet(200, caller), MILLISECOND)
    sent = queue.dequeue(MILLISECOND)
    assert sent is not None
    assert sent.conversation is caller


def test_over_the_limit_the_fattest_pays_and_the_books_still_balance() -> None:
    dropped: list[Packet] = []
    queue = FqCodel(dropped.append, limit=100_000)
    thin, fat = conversation(1), conversation(2)
    for number in range(200):
        queue.enqueue(packet(1500, fat), 0)
        if number % 10 == 0:
            queue.enqueue(packet(100, thin), 0)
        assert queue.backlog <= 100_000
    assert dropped
    assert all(lost.conversation is fat for lost in dropped)
    left = []
    while (sent := queue.dequeue(0)) is not None:
        left.append(sent)
    assert len(left) + len(dropped) == 220
    assert (queue.backlog, queue.length) == (0, 0)


@given(st.lists(st.tuples(st.integers(0, 9), st.integers(64, 1518), st.booleans()), max_size=400))
def test_whoever_loses_at_the_limit_has_at_least_half_the_backlog_of_the_fattest(
    steps: list[tuple[int, int, bool]],
) -> None:
    who = [conversation(port) for port in range(1, 11)]
    losers: list[Packet] = []
    queue = FqCodel(losers.append, limit=40_000)
    for port, size, send in steps:
        losers.clear()
        queue.enqueue(packet(size, who[port]), 0)
        if losers:
            lost = sum(loser.size for loser in losers)
            of = {id(loser.conversation) for loser in losers}
            assert len(of) == 1
            had = {id(one): one.up_lane.flow.backlog + lost * (id(one) in of) for one in who if one.up_lane}
            assert had[of.pop()] * 2 > max(had.values()) or max(had.values()) < FIRST_LEVEL
        if send:
            queue.dequeue(0)
    assert queue.backlog <= 40_000


def test_hosts_that_have_gone_are_forgotten() -> None:
    queue = FqCodel(lambda _: None, by_host=True)
    for number in range(5000):
        queue.enqueue(packet(100, conversation(1, host=number)), number * MILLISECOND)
        queue.dequeue(number * MILLISECOND)
    assert queue._hosts is not None
    assert len(queue._hosts) <= FEW_IDLE
    assert queue.dequeue(5 * SECOND) is None
