import tracemalloc
from collections import Counter
from collections.abc import Mapping

import pytest

from tests.engine.driving import Bench, conversation
from wily_sluice.engine.classify.condition import PortIs
from wily_sluice.engine.classify.header import key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.limiter import MOST_ACCOUNTS, Excess, Ledger, Limiter, LimiterSpec, Per
from wily_sluice.engine.queueing.spec import QueueSpec
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


def test_a_subnet_shares_one_bucket_and_a_conversation_has_its_own() -> None:
    four = Per("subnet", 30)  # hosts 1 to 3 are in one, 4 to 7 in the next
    got = hosts_at(bench_with(Limiter(LimiterSpec("subnet", 1_200_000, four))), 3_000_000, hosts=6, seconds=6)
    assert sum(got[host] for host in (1, 2, 3)) / 5 == pytest.approx(1_200_000, rel=0.01)
    assert sum(got[host] for host in (4, 5, 6)) / 5 == pytest.approx(1_200_000, rel=0.01)
    bench = bench_with(Limiter(LimiterSpec("each", 400_000, Per("conversation"))))
    who = [conversation(1), *(Conversation(key_of(conversation(1).parties._replace(local_port=p))) for p in (5, 6))]
    while bench.now < 6 * SECOND:
        for conv in who:
            bench.offer(conv, 1000)
        bench.run(bench.now + 4 * MILLISECOND)
    for conv in who:
        sent = sum(p.size * 8 for now, p in bench.sent if p.conversation is conv and now >= SECOND)
        assert sent / 5 == pytest.approx(400_000, rel=0.02)


def test_policing_passes_its_burst_at_once_then_its_rate_and_holds_nothing_back() -> None:
    limiter = Limiter(LimiterSpec("police", 1_000_000, burst=10_000, excess="drop"))
    bench = bench_with(limiter)
    who = conversation(1)
    for _ in range(20):
        bench.offer(who, 1000, 0)
    assert (len(bench.dropped), limiter.colours) == (10, [10, 0, 10])
    while bench.now < 10 * SECOND:  # 2 Mbit/s
        bench.run(bench.now + 4 * MILLISECOND)
        bench.offer(who, 1000, bench.now)
    sent = [p for now, p in bench.sent if now - p.token <= 10 * MILLISECOND]
    assert len(sent) == len(bench.sent)  # none waited, but for the ten that came at once on the line of 20 Mbit/s
    assert len(sent) * 8000 / 10 == pytest.approx(1_000_000, rel=0.02)


def test_marking_loses_nothing_and_marks_what_is_over() -> None:
    bench = bench_with(Limiter(LimiterSpec("low", 1_000_000, burst=5000, excess="mark", dscp=1)))
    who = conversation(1)
    while bench.now < 4 * SECOND:
        bench.offer(who, 1000)
        bench.run(bench.now + 4 * MILLISECOND)
    assert not bench.dropped
    marked = sum(packet.dscp == 1 for _, packet in bench.sent)
    assert marked / len(bench.sent) == pytest.approx(0.5, abs=0.02)
    assert {packet.dscp for _, packet in bench.sent} == {1, -1}


def load(bench: Bench, rate: int, until: int, who: Conversation) -> None:
    """Keep a steady load on the line beside whatever else is offered."""
    gap = 1000 * 8 * SECOND // rate
    while bench.now < until:
        bench.offer(who, 1000)
        bench.run(bench.now + gap)


def tenths(bench: Bench, hosts: Mapping[int, int], others: int, seconds: float) -> list[Counter[int]]:
    """Hosts, and others whom no limiter names (as 0), each send at a rate; the bits of each in every tenth of a second,
    from half a second on.
    """
    first, begun, gap = len(bench.sent), bench.now, 2 * MILLISECOND
    owed = dict.fromkeys((*hosts, 0), 0.0)
    while bench.now < begun + seconds * SECOND:
        for host, rate in (*hosts.items(), (0, others)):
            owed[host] += rate * gap / SECOND / 8
            while owed[host] >= 1000:
                bench.offer(conversations[host], 1000)
                owed[host] -= 1000
        bench.run(bench.now + gap)
    found = [Counter[int]() for _ in range(round(seconds * 10) - 5)]
    for now, packet in bench.sent[first:]:
        index = (now - begun) * 10 // SECOND - 5
        if 0 <= index < len(found):
            who = packet.conversation.parties
            found[index][who.local[3] if who.remote_port == 1 else 0] += packet.size * 80
    return found


conversations = {0: conversation(2, 99), **{host: conversation(1, host) for host in range(1, 9)}}


@pytest.mark.parametrize("excess", ["wait", "drop"])
def test_up_to_its_threshold_a_limiter_gives_way_and_everybody_comes_down_to_the_cap_when_others_need_the_line(
    excess: Excess,
) -> None:
    # 20 Mbit/s, of which 80% are 16; the cap is 2 Mbit/s a host.
    limiter = Limiter(LimiterSpec("each", 2_000_000, Per("host"), threshold=0.8, excess=excess, burst=40_000))
    tree = QueueSpec("", RATE, RATE, children=(QueueSpec("capped", 0, RATE), QueueSpec("others", 0, RATE)))
    bench = Bench(tree, (limiter,), PortIs(((1, 1),)))

    def steady(hosts: Mapping[int, int], others: int, expected: Mapping[int, float], after: int = 0) -> None:
        found = tenths(bench, hosts, others, 5)
        for tenth in found[after:]:
            for who, rate in expected.items():
                assert tenth[who] == pytest.approx(rate, rel=0.12), (tenth, expected)

    steady({1: 19_000_000}, 0, {1: 16_000_000})  # alone: the line at 80%, and no less
    steady({1: 19_000_000, 2: 19_000_000, 3: 19_000_000}, 0, dict.fromkeys((1, 2, 3), 16e6 / 3), after=5)
    # A newcomer whom the limiter does not name takes 8: then 8 are left for the three of them.
    steady(dict.fromkeys((1, 2, 3), 19_000_000), 8_000_000, {0: 8e6, **dict.fromkeys((1, 2, 3), 8e6 / 3)}, after=5)
    # With 12, two each would be more than 80%; but they have their cap in any case.
    steady(dict.fromkeys((1, 2, 3), 19_000_000), 12_000_000, {0: 12e6, **dict.fromkeys((1, 2, 3), 2e6)}, after=5)
    # Who wants less than the others leaves it to them: max-min.
    steady({1: 3_000_000, 2: 19_000_000, 3: 19_000_000}, 0, {1: 3e6, 2: 6.5e6, 3: 6.5e6}, after=5)
    steady({1: 19_000_000}, 0, {1: 16_000_000}, after=5)


def test_what_is_dropped_is_not_charged_to_a_quota() -> None:
    ledger = Ledger()
    bench = bench_with(Limiter(LimiterSpec("month", RATE, Per("host"), quota=10**12), ledger))
    who = conversation(1)
    while bench.now < 5 * SECOND:  # five times what the line carries
        for _ in range(5):
            bench.offer(who, 1000)
        bench.run(bench.now + 1000 * 8 * SECOND // RATE)
    assert bench.dropped
    assert ledger.used() == {who.parties.local: 1014 * len(bench.sent)}


def test_accounts_by_the_thousand_push_out_none_that_has_used_something() -> None:
    ledger = Ledger()
    ledger.add({bytes([10, 7, 0, host]): 5_000_000 for host in range(200)})
    limiter = Limiter(LimiterSpec("month", RATE, Per("host"), quota=10**12), ledger)
    bench = bench_with(limiter)
    who = conversation(1, 250)
    bench.offer(who, 1000)
    bench.run(SECOND)
    for number in range(3 * MOST_ACCOUNTS):
        ledger.account(number.to_bytes(4)).count(2000)
    used = ledger.used()
    assert len(used) <= MOST_ACCOUNTS and who.parties.local not in used
    assert all(used[bytes([10, 7, 0, host])] == 5_000_000 for host in range(200))
    bench.offer(who, 1000)  # it was forgotten, and is counted again
    bench.run(2 * SECOND)
    assert ledger.used()[who.parties.local] == 1014 and ledger.news()[who.parties.local] == 1014


def test_a_quota_lets_by_until_it_is_used_up_and_counts_as_the_interface_does() -> None:
    ledger = Ledger()
    bench = bench_with(Limiter(LimiterSpec("month", 500_000, Per("host"), quota=1_000_000), ledger))
    ledger.begin("2027-03-01")
    one, two = conversation(1, host=1), conversation(1, host=2)
    while bench.now < 8 * SECOND:  # 4 and 1 Mbit/s
        for _ in range(4):
            bench.offer(one, 1000)
        bench.offer(two, 1000)
        bench.run(bench.now + 8 * MILLISECOND)
    times = {who: [now for now, p in bench.sent if p.conversation is who] for who in (one, two)}
    quick = [now for now in times[one] if now < 1.9 * SECOND]
    assert len(quick) * 1014 == pytest.approx(0.95 * 1_000_000, rel=0.02)  # 2 s at 4 Mbit/s are the quota
    assert sum(now >= 3 * SECOND for now in times[one]) * 8000 / 5 == pytest.approx(500_000, rel=0.03)
    assert len(times[two]) == 1000  # it has not used up its own yet: a megabyte, 14 bytes a packet not counted
    assert ledger.used()[one.parties.local] == len(times[one]) * 1014
    news = ledger.news()
    assert news == ledger.used() and news.keys() == {one.parties.local, two.parties.local}
    assert not ledger.news()
    ledger.take_back({one.parties.local: 1000})
    ledger.add({two.parties.local: 5})  # of before, which was kept already
    assert ledger.news() == {one.parties.local: 1000}
    assert ledger.used()[two.parties.local] == news[two.parties.local] + 5


def test_ten_thousand_hosts_cost_no_more_memory_than_a_kilobyte_each_and_are_forgotten() -> None:
    bench = bench_with(Limiter(LimiterSpec("each", 1_000_000, Per("host"))))
    who = [conversation(1, host) for host in range(10_000)]
    tracemalloc.start()
    for conv in who:
        bench.offer(conv, 100)
        bench.run(bench.now + MILLISECOND)
    bench.sent.clear()
    held = tracemalloc.get_traced_memory()[0] / len(who)
    tracemalloc.stop()
    assert held < 1024
    limiter = bench.limiters[0]
    assert len(limiter) == 10_000
    who.clear()
    del conv
    assert len(limiter) <= 1
