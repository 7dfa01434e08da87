from collections import Counter

import pytest

from tests.engine.driving import Bench, conversation
from wily_sluice.engine.limiter import Limiter, LimiterSpec, Per
from wily_sluice.engine.spec import QueueSpec
from wily_sluice.units import MILLISECOND, SECOND

RATE = 20_000_000


def bench_with(*limiters: Limiter) -> Bench:
    return Bench(QueueSpec("", RATE, RATE, children=(QueueSpec("all", 0, RATE),)), limiters)


def hosts_at(bench: Bench, rate: int, hosts: int, seconds: int) -> Counter[int]:
    """Let each host send at `rate`; the bits that each got through after the first second."""
    gap = 1000 * 8 * SECOND // rate
    who = [conversation(1, host) for host in range(1, hosts + 1)]
    while bench.now < seconds * SECOND:
        for conv in who:
            bench.offer(conv, 1000)
        bench.run(bench.now + gap)
    got: Counter[int] = Counter()
    for now, packet in bench.sent:
        if now >= SECOND:
            got[packet.conversation.parties.local[3]] += packet.size * 8
    return got


def test_per_host_gives_everyone_their_own_and_nobody_disturbs_the_others() -> None:
    got = hosts_at(bench_with(Limiter(LimiterSpec("each", 1_000_000, Per("host")))), 3_000_000, hosts=5, seconds=6)
    assert [got[host] / 5 for host in range(1, 6)] == pytest.approx([1_000_000] * 5, rel=0.01)


def test_together_is_shared_fairly_by_all() -> None:
    got = hosts_at(bench_with(Limiter(LimiterSpec("all", 2_000_000))), 3_000_000, hosts=4, seconds=6)
    assert sum(got.values()) / 5 == pytest.approx(2_000_000, rel=0.01)
    assert [got[host] / 5 for host in range(1, 5)] == pytest.approx([500_000] * 4, rel=0.03)


def test_of_several_limiters_the_tightest_decides_whatever_their_order() -> None:
    for step in (1, -1):
        limiters = [Limiter(LimiterSpec("loose", 4_000_000)), Limiter(LimiterSpec("tight", 1_000_000, Per("host")))]
        got = hosts_at(bench_with(*limiters[::step]), 3_000_000, hosts=2, seconds=6)
        assert [got[host] / 5 for host in (1, 2)] == pytest.approx([1_000_000] * 2, rel=0.01)


def test_below_its_rate_a_limiter_delays_nothing_and_drops_nothing() -> None:
    bench = bench_with(Limiter(LimiterSpec("each", 4_000_000, Per("host"))))
    who = conversation(1)
    for _ in range(200):
        bench.offer(who, 1000, bench.now)
        bench.run(bench.now + 4 * MILLISECOND)  # 2 Mbit/s
    assert len(bench.sent) == 200
    assert all(now == packet.token for now, packet in bench.sent)
    assert not bench.dropped


def test_order_is_kept_and_what_is_missing_was_counted() -> None:
    limiter = Limiter(LimiterSpec("each", 500_000, Per("host")))
    bench = bench_with(limiter)
    who = conversation(1)
    for number in range(2000):
        bench.offer(who, 1000, number)
        bench.run(bench.now + MILLISECOND)
    bench.run(bench.now + 10 * SECOND)
    tokens = [packet.token for _, packet in bench.sent]
    assert tokens == sorted(tokens)
    assert limiter.drops == len(bench.dropped) > 0
    assert len(tokens) + len(bench.dropped) == 2000


def test_a_host_that_has_gone_is_forgotten() -> None:
    limiter = Limiter(LimiterSpec("each", 500_000, Per("host")))
    bench = bench_with(limiter)
    for host in range(1, 200):
        bench.offer(conversation(1, host), 1000)
        bench.run(bench.now + MILLISECOND)
        bench.sent.clear()
    assert len(limiter) <= 2  # that of the last conversation, and of the last but one, if its packet is still held
