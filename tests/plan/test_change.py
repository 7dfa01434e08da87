"""A running engine switches to another plan while packets are queued in it."""

import gc
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Packet
from wily_sluice.outside.files import load
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND

FRAME = """\
site: Small
uplinks:
  line: {interface: wan0, down: 20 Mbit/s, up: RATE, headroom: 0%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
"""
PLANS = [
    FRAME.replace("RATE", rate) + rest
    for rate, rest in (
        ("10 Mbit/s", "trees: {main: {queues: {rest: {default: true}}}}\nrules: []\n"),
        (
            "6 Mbit/s",
            """\
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      work: {queues: {a: {}, b: {cap: 30%}}}
      rest: {default: true}
limiters: {each: {local: house, per: host, up: 3 Mbit/s}}
rules: [{local: 10.7.0.1, queue: work/a}, {local: 10.7.0.2, queue: work/b}, {port: 5004, queue: calls}]
""",
        ),
        (
            "8 Mbit/s",
            """\
trees:
  main:
    discipline: curve
    queues: {calls: {guarantee: 20%, delay: 20 ms}, work: {guarantee: 30%}, rest: {default: true, aqm: fifo}}
limiters: {each: {local: house, per: host, up: 1 Mbit/s}, all: {local: house, up: 5 Mbit/s}}
rules: [{local: 10.7.0.1, queue: work}, {moved: over 20 kB, queue: rest}, {port: 5004, queue: calls}]
""",
        ),
        (
            "9 Mbit/s",
            """\
trees:
  main:
    discipline: strict
    queues:
      work: {queues: {a: {aqm: codel}, b: {fair-by: host}}}
      rest: {default: true, aqm: fifo}
limiters: {all: {local: house, per: conversation, up: 2 Mbit/s}}
rules: [{local: 10.7.0.1, queue: work/b}, {packet: acknowledgement, queue: work/b}, {port: 5004, queue: work/a}]
""",
        ),
    )
]


@pytest.fixture(scope="module")
def plans(tmp_path_factory: pytest.TempPathFactory) -> list[Plan]:
    folder = tmp_path_factory.mktemp("plans")
    loaded = []
    for index, text in enumerate(PLANS):
        file: Path = folder / f"{index}.yaml"
        file.write_text(text)
        loaded.append(load(file))
    return loaded


def talk(host: int, port: int) -> Conversation:
    return Conversation(key_of(Parties(17, bytes([10, 7, 0, host]), bytes([203, 0, 113, 5]), 40_000, port)))


@settings(max_examples=60)
@given(steps=st.lists(st.tuples(st.integers(0, 3), st.integers(1, 120)), min_size=2, max_size=8), data=st.data())
def test_changes_of_plan_lose_nothing_and_keep_each_conversations_order(
    plans: list[Plan], steps: list[tuple[int, int]], data: st.DataObject
) -> None:
    dropped: list[Packet] = []
    engine = build_site(plans[0], dropped.append)
    who = [talk(host, port) for host in (1, 2, 3) for port in (443, 5004)]
    turn = st.lists(st.sampled_from(who), min_size=1, max_size=8)
    arrived: list[Packet] = []
    now = offered = 0
    for which, millis in steps:
        engine.reconfigure(build_site(plans[which], dropped.append), now)
        shaper = engine.shapers["line", "up"]
        talking = data.draw(turn)
        for _ in range(millis):
            if len(dropped) + len(arrived) > offered - 300:  # so few wait that every plan has room for them
                for one in talking:
                    shaper.offer(Packet(1000, one, offered), now)
                    offered += 1
            while (packet := shaper.release(now)) is not None:
                arrived.append(packet)
            now += MILLISECOND
    shaper = engine.shapers["line", "up"]
    while (due := shaper.next_release(now)) is not None:
        now = max(due, now + 1)
        while (packet := shaper.release(now)) is not None:
            arrived.append(packet)
        assert now < 200 * SECOND, "something stands still"
    assert len(arrived) + len(dropped) == offered
    for one in who:
        numbers = [packet.token for packet in arrived if packet.conversation is one]
        assert numbers == sorted(numbers)
    for leaf in shaper.tree.leaves:
        assert (leaf.length, leaf.backlog, leaf.tally.waiting, leaf.tally.backlog) == (0, 0, 0, 0)
    for limiter in engine.banks["up"].limiters:
        assert limiter is None or (limiter.tally.waiting, limiter.tally.backlog) == (0, 0)
    assert all(tally.waiting == 0 for tally in shaper.collect())
    assert sum(leaf.tally.packets for leaf in shaper.tree.leaves) <= len(arrived)


def test_the_next_second_has_the_new_rates_and_what_stayed_is_counted_on(small_plan: Callable[..., Plan]) -> None:
    dropped: list[Packet] = []
    engine = build_site(small_plan(), dropped.append)
    who = talk(9, 443)

    def second(begin: int) -> int:
        shaper, left, now = engine.shapers["line", "up"], 0, begin
        while now < begin + SECOND:
            while shaper.tree.leaves[-1].length < 20:
                shaper.offer(Packet(1000, who), now)
            while (packet := shaper.release(now)) is not None:
                left += packet.size
            now += MILLISECOND
        return left * 8

    assert second(0) == pytest.approx(9_000_000, rel=0.01)
    rest = engine.shapers["line", "up"].tree.leaves[-1]
    before, sent = rest.tally.packets, rest.sent_bytes
    engine.reconfigure(build_site(small_plan(("up: 10 Mbit/s", "up: 4 Mbit/s")), dropped.append), SECOND)
    assert engine.shapers["line", "up"].tree.leaves[-1] is rest
    assert second(SECOND) == pytest.approx(3_600_000, rel=0.01)
    assert rest.tally.packets > before > 1000
    assert rest.sent_bytes * 8 == pytest.approx(sent * 8 + 3_600_000, rel=0.01)
    capped = small_plan(("rest: {default: true}", "rest: {default: true, cap: 25%}"))
    engine.reconfigure(build_site(capped, dropped.append), 2 * SECOND)
    assert second(2 * SECOND) == pytest.approx(2_250_000, rel=0.03)


@pytest.mark.parametrize(
    "change",
    [
        ("up: 10 Mbit/s", "up: RATE"),
        ("rest: {default: true}", "rest: {default: true, cap: RATE}"),
        ("down: 2 Mbit/s}", "down: 2 Mbit/s}\n  all: {local: house, up: RATE}"),
    ],
)
def test_what_was_choked_goes_at_its_new_rate_at_once(small_plan: Callable[..., Plan], change: tuple[str, str]) -> None:
    before, after = (small_plan((change[0], change[1].replace("RATE", rate))) for rate in ("10 kbit/s", "5 Mbit/s"))
    engine = build_site(before, lambda _: None)
    shaper, who = engine.shapers["line", "up"], talk(9, 443)

    def second(begin: int) -> int:
        left = 0
        for now in range(begin, begin + SECOND, MILLISECOND):
            for _ in range(5):
                shaper.offer(Packet(1500, who), now)
            while (packet := shaper.release(now)) is not None:
                left += packet.size
        return left * 8

    # At 10 kbit/s each of these takes 1.2 s; some go at once, as a burst after idleness.
    assert second(0) <= 5 * 1500 * 8 + 10_000
    engine.reconfigure(build_site(after, lambda _: None), SECOND)
    usable = engine.shapers["line", "up"].rate
    assert second(SECOND) == pytest.approx(min(usable, 5_000_000), rel=0.03)


def test_counters_of_limiters_and_quotas_go_on(small_plan: Callable[..., Plan]) -> None:
    dropped: list[Packet] = []
    engine = build_site(small_plan(("down: 2 Mbit/s", "down: 2 Mbit/s, quota: 1 GB per month")), dropped.append)
    guest = Conversation(key_of(Parties(6, bytes([10, 7, 1, 9]), bytes([203, 0, 113, 5]), 40_000, 443)))
    shaper = engine.shapers["line", "down"]
    for now in range(0, 100 * MILLISECOND, MILLISECOND):
        shaper.offer(Packet(1000, guest), now)
        shaper.release(now)
    limiter = engine.banks["down"].limiters[0]
    assert limiter is not None and limiter.ledger is not None
    used = limiter.ledger.used()
    assert used == {bytes([10, 7, 1, 9]): 100 * 1014}
    changed = small_plan(("down: 2 Mbit/s", "down: 3 Mbit/s, quota: 2 GB per month"))
    engine.reconfigure(build_site(changed, dropped.append), 100 * MILLISECOND)
    assert engine.banks["down"].limiters[0] is limiter
    assert (limiter.rate, engine.ledgers["guest"].used()) == (3_000_000, used)
    assert limiter.tally.packets == 100


def test_neither_traffic_nor_changes_of_plan_leave_cycles_of_objects_behind(plans: list[Plan]) -> None:
    """So that a gate need not look for garbage, which would hold packets up."""
    engine = build_site(plans[0], lambda _: None, crowded=True)
    gc.collect()
    gc.disable()
    try:
        left = []
        for change in range(8):
            for number in range(2000):
                now = (change * 2000 + number) * MILLISECOND // 10
                key = key_of(Parties(17, bytes([10, 7, 0, number % 200]), bytes([203, 0, 113, 5]), number, 443))
                shaper = engine.shapers["line", ("up", "down")[number % 2]]
                shaper.offer(Packet(500, engine.conversations.find(key, 0, now)), now)
                while shaper.release(now) is not None:
                    pass
            left.append(gc.collect())
            engine.reconfigure(build_site(plans[change % len(plans)], lambda _: None, crowded=True), now)
            left.append(gc.collect())
    finally:
        gc.enable()
    assert max(left) < 20, left
