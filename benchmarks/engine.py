"""What a packet costs the engine on this machine: `python -m benchmarks.engine`.

Offer and release together, as a multiple of a bare deque's append and popleft in the same run: with 10 to 10,000 leaves
of which half are busy, with 100 to 100,000 conversations, and with 10 to 10,000 hosts who each have a bucket of their
own, and with 10 to 10,000 rules. And what an idle conversation, and an idle host, takes in memory.
"""

import gc
import tracemalloc
from collections import deque
from collections.abc import Callable
from math import prod
from time import perf_counter_ns

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.classifier import ANYONE, Classifier, Rule
from wily_sluice.engine.classify.condition import All, LocalIs, PortIs, RemoteIs
from wily_sluice.engine.classify.header import TCP, Parties, key_of
from wily_sluice.engine.classify.rule_index import Reach
from wily_sluice.engine.conversations.conversation import ConversationTable
from wily_sluice.engine.limit.limiter import Limiter, LimiterSpec, Per
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing import tree as tree_module
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.shaper import Shaper, forward_to_tree
from wily_sluice.plan.build import build_tree
from wily_sluice.units import transmission_time

RATE = 1_000_000_000
SIZE = 1000
PACKETS = 60_000
ROUNDS = 5
PERIOD = transmission_time(SIZE, RATE)


def key(number: int) -> bytes:
    host, port = divmod(number, 60_000)
    return key_of(Parties(TCP, bytes([10, 0, host >> 8, host & 255]), bytes([198, 51, 100, 1]), port + 1, 443))


def bare_deque() -> float:
    """Nanoseconds for an append and a popleft."""
    queue: deque[int] = deque(range(100))
    best = float("inf")
    for _ in range(ROUNDS):
        begun = perf_counter_ns()
        for number in range(PACKETS):
            queue.append(number)
            queue.popleft()
        best = min(best, (perf_counter_ns() - begun) / PACKETS)
    return best


SHAPES = {10: (1, 2, 5), 100: (4, 5, 5), 1000: (10, 10, 10), 10_000: (20, 20, 25)}  # children at each level


def tree_of(shape: tuple[int, ...]) -> QueueSpec:
    """Parents of so many children each, level by level, with guarantees and weights."""

    def grown(path: str, guarantee: int, shape: tuple[int, ...]) -> tuple[QueueSpec, ...]:
        children = []
        for index in range(shape[0]):
            name = f"{path}/q{index}".lstrip("/")
            own = guarantee // (2 * shape[0])
            inner = grown(name, own, shape[1:]) if shape[1:] else ()
            children.append(QueueSpec(name, own, RATE, 5, 1.0 + index % 3, inner))
        return tuple(children)

    return QueueSpec("", RATE, RATE, children=grown("", RATE, shape))


def per_packet(shape: tuple[int, ...], conversations: int, standing: int) -> float:
    """Nanoseconds for looking a packet's conversation up, offering it and releasing one; half of the leaves busy.

    `standing` packets stand in the tree all the while.
    """
    spec = tree_of(shape)
    leaves = prod(shape)
    bank = LimiterBank((), forward_to_tree, lambda _: None)
    shaper = Shaper("up", build_tree(spec, lambda _: None), Classifier((Rule(ANYONE, 0),), 0), bank)
    table = ConversationTable()
    keys = [key(number) for number in range(conversations)]
    busy = max(1, leaves // 2)
    now = 0
    for number, one in enumerate(keys):
        conversation = table.find(one, 0, 0)
        shaper.offer(Packet(SIZE, conversation), now)  # sorts it, to leaf 0
        shaper.release(now)
        now += PERIOD
        conversation.up_path.leaf = shaper.tree.leaves[number % busy * 2 % leaves]
    for number in range(standing):
        shaper.offer(Packet(SIZE, table.find(keys[number % conversations], 0, now)), now)
    best = float("inf")
    number = standing
    for _ in range(ROUNDS):
        begun = perf_counter_ns()
        for _ in range(PACKETS):
            shaper.offer(Packet(SIZE, table.find(keys[number % conversations], 0, now)), now)
            number += 1
            now += PERIOD
            shaper.release(now)
        best = min(best, (perf_counter_ns() - begun) / PACKETS)
    return best


def per_packet_of_hosts(hosts: int) -> float:
    """Nanoseconds as above, with so many hosts under one limiter, each within its rate."""
    limiter = Limiter(LimiterSpec("each", RATE, Per("host")))
    bank = LimiterBank((limiter,), forward_to_tree, lambda _: None)
    classifier = Classifier((Rule(ANYONE, 0),), 0, (ANYONE,))
    shaper = Shaper("up", build_tree(tree_of(SHAPES[10]), lambda _: None), classifier, bank)
    table = ConversationTable()
    keys = [
        key_of(Parties(TCP, bytes([10, 0, n >> 8, n & 255]), bytes([198, 51, 100, 1]), 4000, 443)) for n in range(hosts)
    ]
    now = 0
    for one in keys:
        shaper.offer(Packet(SIZE, table.find(one, 0, now)), now)
        shaper.release(now)
        now += PERIOD
    assert len(limiter) == hosts
    best = float("inf")
    number = 0
    for _ in range(ROUNDS):
        begun = perf_counter_ns()
        for _ in range(PACKETS):
            shaper.offer(Packet(SIZE, table.find(keys[number % hosts], 0, now)), now)
            number += 1
            now += PERIOD
            shaper.release(now)
        best = min(best, (perf_counter_ns() - begun) / PACKETS)
    return best


def ruled(count: int) -> Classifier:
    """Rules that ask for a host, a remote prefix, a protocol and ports; none is met by the conversations of `key`."""

    def addresses(*numbers: int, span: int = 0) -> AddressSet:
        number = int.from_bytes(bytes(numbers))
        return AddressSet([(number.to_bytes(4), (number + span).to_bytes(4))])

    rules = []
    for index in range(count):
        high, low = divmod(index, 256)
        reach = Reach(
            addresses(10, 7, high, low),
            addresses(203, high, low, 0, span=255),
            frozenset({TCP, 17}),
            remote_ports=((1000 + index % 5000, 1100 + index % 5000),),
        )
        assert reach.local is not None
        assert reach.remote is not None
        asked = (LocalIs(reach.local), RemoteIs(reach.remote), PortIs(reach.remote_ports or (), local=False))
        rules.append(Rule(All(asked), 1, reach=reach))
    return Classifier((*rules, Rule(ANYONE, 2)), 0)


def per_packet_of_rules(count: int, new: bool) -> float:
    """Nanoseconds as above under so many rules: of a packet of a known conversation, or of the first of a new one."""
    bank = LimiterBank((), forward_to_tree, lambda _: None)
    shaper = Shaper("up", build_tree(tree_of(SHAPES[10]), lambda _: None), ruled(count), bank)
    best = float("inf")
    packets = PACKETS // 10 if new else PACKETS
    for _ in range(ROUNDS):
        table = ConversationTable()
        keys = [key(number) for number in range(packets if new else 1000)]
        now = 0
        if not new:
            for one in keys:
                shaper.offer(Packet(SIZE, table.find(one, 0, now)), now)
                shaper.release(now)
                now += PERIOD
        begun = perf_counter_ns()
        for number in range(packets):
            shaper.offer(Packet(SIZE, table.find(keys[number % len(keys)], 0, now)), now)
            now += PERIOD
            shaper.release(now)
        best = min(best, (perf_counter_ns() - begun) / packets)
    return best


def idle_bytes(conversations: int = 100_000) -> float:
    """Memory of one conversation that has been sorted and is idle, its place in the table included."""
    bank = LimiterBank((), forward_to_tree, lambda _: None)
    shaper = Shaper("up", build_tree(tree_of(SHAPES[10]), lambda _: None), Classifier((Rule(ANYONE, 0),), 0), bank)
    table = ConversationTable()
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    for number in range(conversations):
        shaper.offer(Packet(SIZE, table.find(key(number), 0, 0)), number * PERIOD)
        shaper.release(number * PERIOD)
    gc.collect()
    grown = tracemalloc.get_traced_memory()[0] - before
    tracemalloc.stop()
    return grown / len(table)


def main() -> None:
    """Print the tables."""
    gc.disable()
    print("the engine is", "compiled" if tree_module.__file__.endswith(".so") else "not compiled")
    units = [bare_deque()]

    def times(measure: Callable[..., float], *figures: object) -> str:
        """As a multiple of the unit, before and after: a machine may be slower for a while. The best of three."""
        found = []
        for _ in range(3):
            before = bare_deque()
            took = measure(*figures)
            units.append(min(before, bare_deque()))
            found.append(took / units[-1])
        return f"{min(found):.1f}"

    for leaves, shape in SHAPES.items():
        print(f"{leaves:>7} leaves on three levels: {times(per_packet, shape, 10_000, 10_000)}")
    for depth in (1, 2, 3, 4, 5, 6):
        print(f"{2**depth:>7} leaves on {depth} levels:     {times(per_packet, (2,) * depth, 1000, 1000)}")
    for conversations in (100, 1000, 10_000, 100_000):
        print(f"{conversations:>7} conversations:          {times(per_packet, SHAPES[100], conversations, 1000)}")
    for hosts in (10, 100, 1000, 10_000):
        print(f"{hosts:>7} hosts, a bucket each:   {times(per_packet_of_hosts, hosts)}")
    for count in (10, 100, 1000, 10_000):
        known, new = (times(per_packet_of_rules, count, new) for new in (False, True))
        print(f"{count:>7} rules:                  {known}, of a new conversation {new}")
    print(f"a deque's append and popleft: 1, which is {min(units):.0f} ns here")
    print(f"an idle conversation: {idle_bytes():.0f} bytes")


if __name__ == "__main__":
    main()
