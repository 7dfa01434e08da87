"""A whole gate on a machine of ours: netlink messages in, verdicts out, and what it lives through meanwhile."""

import time
from collections.abc import Callable

import pytest

from tests.gate.fakes import FakeMachine, Listening, Queue, live, udp
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.errors import LiveError
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.kernel.machine import Crossed
from wily_sluice.gate.loop import MOST_HELD
from wily_sluice.gate.observers import A_CHORE, Talk
from wily_sluice.gate.queue_manager import FIRST_OPENING, FIRST_QUEUE
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND

FAR, FAR4 = "203.0.113.5", bytes([203, 0, 113, 5])
DOWN, UP, UP_FIRST = FIRST_QUEUE, FIRST_QUEUE + 1, FIRST_OPENING + 1
SLOW = ("up: 10 Mbit/s", "up: 200 kbit/s")
SERVICES = (
    "rules:\n  - {name: Calls, local: house",
    "rules:\n  - {service: calls, queue: calls}\n  - {name: Calls, local: house",
)


def until(holds: Callable[[], object], seconds: float = 20.0) -> None:
    deadline = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < deadline
        time.sleep(0.01)


def test_every_packet_gets_a_verdict_and_what_is_over_the_rate_waits_or_is_dropped(
    small_plan: Callable[..., Plan],
) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(), None, listening, machine)

    def script() -> None:
        up = machine.queues[UP]
        begun = time.monotonic()
        for count in range(4000):  # 5.8 MB at once, at 9 Mbit/s
            up.hand_over(udp("10.7.0.9", FAR, 40_000 + count % 7, 443, 1400))
        while not up.hand_over(udp("10.7.0.8", FAR, 5004, 5004)):
            time.sleep(0.001)
        until(lambda: any(packet[28:] == bytes(100) for packet, _ in up.verdicts), 3)
        assert time.monotonic() - begun < 3  # the call does not wait for the rest
        time.sleep(max(0.0, begun + 2 - time.monotonic()))
        sent = sum(len(packet) + 18 for packet, accepted in list(up.verdicts) if accepted)
        assert 1_000_000 < sent * 8 / (time.monotonic() - begun) < 10_000_000
        moved.append((gate._datapaths.moved()["line", "up"].bytes, sent))

    moved: list[tuple[int, int]] = []
    live(gate, listening, script)
    until(lambda: machine.queues[UP].over)
    assert moved[0][0] == pytest.approx(moved[0][1], rel=0.05)
    assert machine.chains is None
    assert sum(row.packets for row in listening.rows if row.kind == "queue") > 300


@pytest.mark.parametrize(
    "asks",
    [("port: 5004-5005, queue: calls", "port: 5004-5005, queue: calls, mark: EF"), ("down: 2 Mbit/s", "down: 2 Mbit/s, "
     "excess: mark LE")],
)  # fmt: skip
def test_a_plan_that_writes_into_packets_is_refused_where_that_cannot_be(
    small_plan: Callable[..., Plan], asks: tuple[str, str]
) -> None:
    machine = FakeMachine()
    machine.can_write = lambda: False  # type: ignore[method-assign]
    with pytest.raises(LiveError, match="cannot write DSCPs"):
        Gate(small_plan(asks), None, Listening(), machine).run(lambda: pytest.fail("it runs"))
    assert not machine.queues and machine.chains is None


def test_a_datagram_that_comes_back_is_evidence_for_its_uplink(small_plan: Callable[..., Plan]) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(), None, listening, machine)
    seen: list[tuple[int, int]] = []

    def script() -> None:
        up, down, line = machine.queues[UP], machine.queues[DOWN], gate.engine.shapers["line", "up"]
        for _ in range(200):  # the first of them counts, and others by chance
            up.hand_over(udp("10.7.0.8", FAR, 5004, 5004))
            until(lambda: not up.waiting)
            seen.append((line.heard, line.spoke))
        down.hand_over(udp("10.7.0.8", FAR, 5004, 5004, back=True))
        until(lambda: line.heard)
        for _ in range(200):
            up.hand_over(udp("10.7.0.8", FAR, 5004, 5004))
            down.hand_over(udp("10.7.0.8", FAR, 5004, 5004, back=True))
        until(lambda: line.spoke)

    live(gate, listening, script)
    assert set(seen) == {(0, 0)}


def test_single_conversations_are_counted_on_uplinks_that_a_change_brings(small_plan: Callable[..., Plan]) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(), None, listening, machine)
    changed = small_plan(("  line: {", "  fibre: {"))
    told: list[str] = []
    talks: list[Talk] = []

    def script() -> None:
        gate._background.do(
            "test", lambda: gate.watch(SECOND // 4, True), lambda _: gate.offer(lambda: changed, told.append)
        )
        until(lambda: told)

        def seen() -> list[Talk]:
            for queue in [queue for number, queue in machine.queues.items() if number % 2 == UP % 2]:
                queue.hand_over(udp("10.7.0.9", FAR, 40_000, 443))
            talks.extend(gate.talks())
            return talks

        until(seen)

    live(gate, listening, script)
    assert told == [""] and {talk.uplink for talk in talks} == {"fibre"}


def test_a_burst_of_drops_is_said_in_messages_that_the_kernel_takes(small_plan: Callable[..., Plan]) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(
        small_plan(SLOW, ("rest: {default: true}", "rest: {default: true, limit: 9000 packets}")),
        None,
        listening,
        machine,
    )
    short = small_plan(SLOW, ("rest: {default: true}", "others: {default: true, limit: 10 packets}"))
    told: list[str] = []

    def script() -> None:
        up = machine.queues[UP]
        for count in range(8900):
            while not up.hand_over(udp("10.7.0.9", FAR, 1024 + count % 7, 443, 10)):
                time.sleep(0.01)
        until(lambda: gate._queue_manager.numbered("line") == up.number)
        gate._background.do("test", lambda: None, lambda _: gate.offer(lambda: short, told.append))
        until(lambda: told)
        until(lambda: sum(not accepted for _, accepted in list(up.verdicts)) > 7000)

    live(gate, listening, script)
    assert told == [""]
    assert gate._queue_manager.refused == 0


@pytest.mark.parametrize("apart", [True, False])
def test_of_a_flood_of_new_conversations_what_is_too_much_is_dropped_and_nobody_else_is_held_up(
    small_plan: Callable[..., Plan], apart: bool
) -> None:
    machine, listening = FakeMachine(counts=apart), Listening()
    gate = Gate(small_plan(SERVICES, ("up: 10 Mbit/s", "up: 900 Mbit/s")), None, listening, machine)
    opening = [udp("10.7.0.9", FAR, 40_000, 443, size) for size in range(1, 21)]
    calls = [udp("10.7.0.101", FAR, 7000, 7000, size) for size in range(400)]
    shed = past = 0

    def hand_over(queue: Queue, packet: bytes) -> None:
        nonlocal past
        while not queue.hand_over(packet):  # the reader is slow, on a machine that is busy
            past += 1
            time.sleep(0.0005)

    def script() -> None:
        nonlocal shed
        first, then = machine.queues[UP_FIRST if apart else UP], machine.queues[UP]
        for size in range(60):  # is open, and settled
            hand_over(first if size < 48 else then, udp("10.7.0.101", FAR, 7000, 7000, 900 + size))
            time.sleep(0.001)
        for count in range(12_000):
            hand_over(first, udp("10.7.0.7", FAR, 2000 + count, 443))
            if count % 30 == 0:
                hand_over(then, calls[count // 30])
            if count % 600 == 0:
                hand_over(first, opening[count // 600])
        until(lambda: not first.waiting and not then.waiting, 30)
        assert gate._loop is not None
        shed = gate._loop.shed

    live(gate, listening, script)
    said = machine.queues[UP].verdicts + (machine.queues[UP_FIRST].verdicts if apart else [])
    accepted = [packet for packet, ok in said if ok]
    assert [packet for packet in accepted if packet in calls] == calls
    assert [packet for packet in accepted if packet in opening] == opening
    assert 0 < shed == sum(packet[12:16] == bytes([10, 7, 0, 7]) for packet, ok in said if not ok)
    assert gate.bypassed <= past


def test_the_first_packets_of_a_conversation_are_not_overtaken_though_they_come_by_another_queue(
    small_plan: Callable[..., Plan],
) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(SERVICES, ("up: 10 Mbit/s", "up: 900 Mbit/s")), None, listening, machine)
    expected: list[bytes] = []

    def script() -> None:
        first, then = machine.queues[UP_FIRST], machine.queues[UP]
        for count in range(300):  # behind a crowd of others
            first.hand_over(udp("10.7.0.7", FAR, 2000 + count, 443))
        for size in range(1, 97):
            expected.append(udp("10.7.0.9", FAR, 40_000, 443, size))
            (first if size <= 48 else then).hand_over(expected[-1])
        until(lambda: len(first.verdicts) + len(then.verdicts) == 396)

    order: list[bytes] = []
    note = Queue._answer  # verdicts of both queues, in one order

    def noting(self: Queue) -> None:
        class Both(list[tuple[bytes, bool]]):
            def append(self, one: tuple[bytes, bool]) -> None:
                super().append(one)
                order.append(one[0])

        self.verdicts = Both()
        note(self)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Queue, "_answer", noting)
        live(gate, listening, script)
    own = [packet for packet in order if packet in expected]
    # Two threads note the two queues' verdicts, so the last of one and the first of the other may change places.
    assert [packet for packet in own if len(packet) <= 76] == expected[:48]
    assert [packet for packet in own if len(packet) > 76] == expected[48:]
    assert MOST_HELD > 300


def test_chains_that_others_flush_are_there_again_within_two_seconds_and_that_is_told(
    small_plan: Callable[..., Plan],
) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(), None, listening, machine)

    def script() -> None:
        wanted = machine.chains
        time.sleep(1.1)
        for flushed in (1, 2):
            machine.chains = None
            begun = time.monotonic()
            while machine.chains is None:
                machine.packets += 100  # which come to no queue
                assert time.monotonic() < begun + 3
                time.sleep(0.05)
            assert time.monotonic() - begun < 2.3
            assert (machine.chains, machine.repairs) == (wanted, flushed)
            until(lambda flushed=flushed: listening.events.count("chain.repaired") == flushed)

    live(gate, listening, script)


def test_a_table_of_connections_that_fills_up_is_done_without_and_used_again_when_there_is_room(
    small_plan: Callable[..., Plan], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("wily_sluice.gate.kernel.guard.AGAIN", 0)
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(SERVICES), None, listening, machine)

    def script() -> None:
        assert machine.chains is not None and "connbytes" in machine.chains[0]
        machine.connections = 900
        until(lambda: machine.chains is not None and "connbytes" not in machine.chains[0])
        up = machine.queues[UP]
        up.hand_over(udp("10.7.0.9", FAR, 5004, 5004))
        until(lambda: len(up.verdicts) == 1)
        machine.connections = 100
        until(lambda: machine.chains is not None and "connbytes" in machine.chains[0])

    live(gate, listening, script)
    assert listening.events == ["tracking.full", "tracking.back"]


class SlowKeeper:
    """Its database is locked for a while: whoever asks waits, and then is told that it is in vain."""

    def __init__(self) -> None:
        self.asked = 0
        self.kept: dict[bytes, int] = {}

    def used(self, limiter: str, period: str) -> dict[bytes, int]:
        self.asked += 1
        time.sleep(0.7)
        if self.asked < 3:
            raise LiveError("database is locked")
        return {bytes([10, 7, 1, 9]): 5000}

    def keep(self, limiter: str, period: str, news: dict[bytes, int]) -> dict[bytes, int]:
        for key, size in news.items():
            self.kept[key] = self.kept.get(key, 0) + size
        return {}

    def tick(self) -> None:
        return


def test_no_packet_waits_for_a_locked_database_and_no_use_of_a_quota_is_lost_or_counted_twice(
    small_plan: Callable[..., Plan], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("wily_sluice.gate.quotas.RETRY", 0.1)
    machine, listening, keeper = FakeMachine(), Listening(), SlowKeeper()
    plan = small_plan(("down: 2 Mbit/s", "down: 2 Mbit/s, quota: 1 GB per month"))
    gate = Gate(plan, keeper, listening, machine)
    waits: list[float] = []

    def script() -> None:
        down = machine.queues[DOWN]
        for count in range(100):
            begun = time.monotonic()
            down.hand_over(udp("10.7.1.9", FAR, 40_000, 443, 72, back=True), inside=3)
            until(lambda count=count: len(down.verdicts) > count)
            waits.append(time.monotonic() - begun)
            time.sleep(0.03)
        until(lambda: gate.engine.ledgers["guest"].used()[bytes([10, 7, 1, 9])] == 5000 + 100 * 114)

    live(gate, listening, script)
    assert keeper.kept == {bytes([10, 7, 1, 9]): 100 * 114}
    assert listening.events.count("quotas.unreadable") == 2
    assert max(waits) < 0.6


def test_a_thousand_busy_hosts_are_counted_without_holding_a_packet_up(small_plan: Callable[..., Plan]) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(
        small_plan(("10.7.0.0/24", "10.7.0.0/24, 10.8.0.0/16"), ("up: 10 Mbit/s", "up: 900 Mbit/s")),
        None,
        listening,
        machine,
    )

    def script() -> None:
        up = machine.queues[UP]
        for host in range(1000):
            while not up.hand_over(udp(f"10.8.{host // 250}.{host % 250 + 1}", FAR, 40_000, 443)):
                time.sleep(0.01)
        until(lambda: len(up.verdicts) == 1000)
        until(lambda: len({row.name for row in listening.rows if row.kind == "flow"}) == 1000)

    live(gate, listening, script)
    assert listening.largest <= A_CHORE  # a few in each turn, however many there are


def test_a_device_is_one_host_whatever_addresses_it_gives_itself_and_an_address_per_address(
    small_plan: Callable[..., Plan],
) -> None:
    machine, listening = FakeMachine(), Listening()
    machine.links = [(bytes([10, 7, 1, 0]), bytes([10, 7, 1, 255]))]
    plan = small_plan(
        ("local: guests, per: host, down: 2 Mbit/s}", "local: guests, per: host, up: 2 Mbit/s}"
         "\n  one: {local: guests, per: address, up: 1 Mbit/s}")
    )  # fmt: skip
    gate = Gate(plan, None, listening, machine)

    def buckets(address: int) -> list[object]:
        found = gate.engine.conversations.peek(key_of(Parties(17, bytes([10, 7, 1, address]), FAR4, 4000, 443)))
        assert found is not None and found.up_path is not None
        return list(found.up_path.buckets)

    def script() -> None:
        up = machine.queues[UP]
        for address, device in ((9, 1), (10, 1), (11, 2), (12, 0)):
            up.hand_over(udp(f"10.7.1.{address}", FAR, 4000, 443), bytes([2, 0, 0, 0, 0, device]), inside=3)
        until(lambda: len(up.verdicts) == 4)
        assert buckets(9)[0] is buckets(10)[0] is not buckets(11)[0]
        assert buckets(9)[1] is not buckets(10)[1]
        until(lambda: {row.name[0] for row in listening.rows if row.kind == "flow"} >= {bytes([10, 7, 1, 9])})
        assert bytes([10, 7, 1, 10]) not in {row.name[0] for row in listening.rows if row.kind == "flow"}

    live(gate, listening, script)


def test_who_has_an_address_of_no_subnet_is_held_to_what_the_network_is_and_that_is_told(
    small_plan: Callable[..., Plan],
) -> None:
    machine, listening = FakeMachine(), Listening()
    gate = Gate(small_plan(("per: host, down: 2 Mbit/s", "per: host, up: 2 Mbit/s")), None, listening, machine)

    def script() -> None:
        up = machine.queues[UP]
        begun = time.monotonic()
        for count in range(400):  # as many hosts, of as many subnets, with 1 Mbit in all
            up.hand_over(udp(f"172.16.{count}.9", FAR, 4000, 443, 300) if count < 256
                         else udp(f"192.168.{count - 256}.9", FAR, 4000, 443, 300), inside=3)  # fmt: skip
            if count % 20 == 0:
                time.sleep(0.01)
        until(lambda: len(up.verdicts) == 400)
        assert time.monotonic() - begun > 0.4  # together they have what one host may have
        until(lambda: "strangers.seen" in listening.events)

    live(gate, listening, script)
    flows = {row.name[0] for row in listening.rows if row.kind == "flow"}
    assert flows == {bytes([10, 7, 1, 0])}


@pytest.mark.parametrize(
    ("limiter", "whole"),
    [
        ("up: 400 Mbit/s", True),
        ("up: 400 Mbit/s, excess: drop, burst: 100 kB", True),
        ("up: 400 Mbit/s, excess: drop, burst: 30 kB", False),
        ("down: 400 Mbit/s, excess: drop, burst: 30 kB", True),
    ],
)
def test_large_offloaded_packets_are_cut_where_a_limiter_would_always_drop_them(
    small_plan: Callable[..., Plan], limiter: str, whole: bool
) -> None:
    machine, listening = FakeMachine(), Listening()
    plan = small_plan(("up: 10 Mbit/s", "up: 900 Mbit/s"), ("per: host, down: 2 Mbit/s", limiter))
    live(Gate(plan, None, listening, machine), listening, lambda: None)
    assert machine.whole[UP] == whole


def test_what_leaves_by_a_way_that_the_plan_does_not_name_is_counted_and_told(small_plan: Callable[..., Plan]) -> None:
    class TwoWays(FakeMachine):
        def ways_out(self) -> set[str]:
            return {"wan0", "wan7"}

        looked = 0

        def crossed(self) -> dict[str, Crossed]:
            self.looked += 1
            return {"wan0": Crossed(self.packets, 0), "wan7": Crossed(0, 2 * self.packets)}

    machine, listening = TwoWays(), Listening()
    gate = Gate(small_plan(), None, listening, machine)

    def script() -> None:
        until(lambda: machine.looked >= 2)  # so that it knows what was there before
        machine.packets += 15
        until(lambda: gate.unseen == {"wan7": 30})

    live(gate, listening, script)
    assert listening.events.count("uplink.unnamed") == 1
