from collections import Counter

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.engine.driving import Bench, conversation, packet
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.drr import FIRST_LEVEL
from wily_sluice.engine.queueing.fq_codel import FEW_IDLE, FqCodel
from wily_sluice.engine.queueing.spec import LeafSpec, QueueSpec
from wily_sluice.units import MILLISECOND, SECOND


def root_of(leaf: LeafSpec, rate: int) -> QueueSpec:
    return QueueSpec("", rate, rate, children=(QueueSpec("only", 0, rate, leaf=leaf),))


def jain(shares: list[int]) -> float:
    """Jain's fairness index: 1 for equal shares, 1/n when one has all."""
    return sum(shares) ** 2 / (len(shares) * sum(share**2 for share in shares))


@pytest.mark.thorough
@settings(max_examples=40)
@given(st.lists(st.integers(64, 1500), min_size=2, max_size=200), st.booleans())
def test_conversations_share_by_bytes_whatever_their_packet_sizes(sizes: list[int], by_host: bool) -> None:
    queue = FqCodel(lambda _: None, limit=100_000_000, packet_limit=1_000_000, by_host=by_host)
    who = {conversation(port + 1): size for port, size in enumerate(sizes)}
    got: Counter[object] = Counter()
    rounds = 60
    for conv, size in who.items():
        for _ in range(rounds * 1600 // size + 1):
            queue.enqueue(packet(size, conv), 0)
    for _ in range(sum(1500 * (rounds - 5) // size for size in sizes)):
        sent = queue.dequeue(0)
        assert sent is not None
        got[sent.conversation] += sent.size
    assert jain([got[conv] for conv in who]) >= 0.99


def test_by_host_one_with_a_hundred_conversations_gets_no_more_than_one_with_one() -> None:
    bench = Bench(root_of(LeafSpec(fair_by="host"), rate=20_000_000))
    who = [conversation(1, host=1), *(conversation(port, host=2) for port in range(1, 101))]
    queue = bench.shaper.tree.leaves[0].queue
    held: Counter[Conversation] = Counter()
    seen = 0
    while bench.now < 10 * SECOND:
        for conv in who:
            while held[conv] < (20 if conv is who[0] else 3):
                bench.offer(conv, 1000 if conv is who[0] else 300 + conv.parties.remote_port)
                held[conv] += 1
        bench.run(bench.now + 5 * MILLISECOND)
        for out in bench.sent[seen:]:
            held[out[1].conversation] -= 1
        seen = len(bench.sent)
        while bench.dropped:
            held[bench.dropped.pop().conversation] -= 1
    carried = Counter[int]()
    for now, out in bench.sent:
        if now >= SECOND:
            carried[out.conversation.parties.local[3]] += out.size
    assert abs(carried[1] - carried[2]) <= 0.02 * carried[1]
    assert queue.length


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
            had = {id(one): one.up_path.flow.backlog + lost * (id(one) in of) for one in who if one.up_path}
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
