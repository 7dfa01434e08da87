"""Round trips from what passes by: of segments with timestamps, without the time that they wait in the gate."""

import random
from collections.abc import Callable
from heapq import heappop, heappush
from itertools import count

import pytest

from tests.engine.driving import ANYWHERE
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.conversations.round_trips import EVERY, OLDEST, RoundTrips, Spin, spin_bit, timestamps
from wily_sluice.engine.queueing.flow_path import FlowPath
from wily_sluice.engine.tally import MOST_TRIPS, FlowTally
from wily_sluice.units import MILLISECOND, Nanoseconds

PATH, HOUSE = 20 * MILLISECOND, 1 * MILLISECOND
NEAR4, FAR4 = bytes((10, 61, 0, 12)), bytes((203, 0, 113, 7))
NEAR6, FAR6 = bytes.fromhex("fd61000000000001" + "00" * 7 + "12"), bytes.fromhex("20010db8" + "00" * 11 + "07")


def segment(up: bool, stamp: int, echo: int, six: bool = False, options: bytes = b"\x01\x01\x08\x0a") -> bytes:
    near, far = (NEAR6, FAR6) if six else (NEAR4, FAR4)
    ends = near + far if up else far + near
    if six:
        head = bytes.fromhex("60000000") + (32).to_bytes(2) + b"\x06\x40" + ends
    else:
        head = bytes((0x45, 0, 0, 52, 0, 0, 0, 0, 64, 6, 0, 0)) + ends
    return head + bytes(12) + b"\x80\x10" + bytes(6) + options + stamp.to_bytes(4) + echo.to_bytes(4)


class Passing:
    """One conversation, seen by a gate."""

    def __init__(self) -> None:
        self.trips = RoundTrips()
        self.conversation = Conversation(key_of(Parties(6, NEAR4, FAR4, 40_000, 443)))
        self.tally = FlowTally(NEAR4, -1, "", "")
        self.conversation.up_path = FlowPath(ANYWHERE, (), ANYWHERE.tree.leaves[0], self.tally)

    def saw(self, up: bool, stamp: int, echo: int, now: Nanoseconds, token: object = None) -> None:
        self.trips.saw(self.conversation, token, segment(up, stamp, echo), up, now)

    def begin(self, up: bool, stamp: int, now: Nanoseconds) -> object:
        """A packet whose echo is then awaited."""
        token = object()
        for _ in range(40 * EVERY):
            if self.conversation.probe is None:
                self.saw(up, stamp, 0, now, token)
        probe = self.conversation.probe
        assert probe is not None and probe.token is token
        return token


def test_datagrams_that_come_back_prove_the_line() -> None:
    one = Passing()
    path = one.conversation.up_path
    assert path is not None
    one.conversation.up_path = None
    one.trips.exchanged(one.conversation, token := object(), True, 10)  # its first packet
    one.conversation.up_path, probe = path, one.conversation.probe
    assert probe is not None and probe.token is token
    one.trips.exchanged(one.conversation, None, False, 15)  # it has not left yet
    assert path.shaper.heard == 0
    probe.left(20)
    one.trips.exchanged(one.conversation, None, False, 30)
    assert path.shaper.heard == 20 and path.shaper.answered == 0 and one.tally.beyond is None
    for _ in range(40 * EVERY):
        one.trips.exchanged(one.conversation, token, True, 40)
    assert one.conversation.probe is not None  # a later one, by chance
    path.shaper.heard = 0


@pytest.mark.parametrize("six", [False, True])
def test_timestamps_are_read_where_hosts_put_them(six: bool) -> None:
    assert timestamps(segment(True, 7, 9, six)) == 7 << 32 | 9
    assert timestamps(segment(True, 7, 9, six, b"\x08\x0a\x01\x01")) is None
    assert timestamps(segment(True, 7, 9, six)[:-1]) is None


def test_a_trip_begins_when_the_packet_leaves_and_ends_with_its_echo_or_a_later_one() -> None:
    one = Passing()
    one.begin(True, 1000, 0)
    one.saw(False, 5, 1000, MILLISECOND)  # it has not left yet: the echo is of an earlier packet of the same moment
    probe = one.conversation.probe
    assert probe is not None
    probe.left(30 * MILLISECOND)
    one.saw(False, 6, 999, 40 * MILLISECOND)
    assert one.tally.beyond is None
    one.saw(False, 7, 1001, 55 * MILLISECOND)
    assert one.tally.beyond == [25 * MILLISECOND] and one.tally.inside is None and one.conversation.probe is None
    one.begin(False, 0xFFFFFFFF, 60 * MILLISECOND)
    probe = one.conversation.probe
    assert probe is not None
    probe.left(60 * MILLISECOND)
    one.saw(True, 8, 3, 62 * MILLISECOND)  # timestamps begin anew at zero
    assert one.tally.inside == [2 * MILLISECOND]


def test_a_packet_that_is_lost_is_given_up_and_no_more_is_kept_than_is_read() -> None:
    one = Passing()
    one.begin(True, 1, 0)
    one.saw(True, 2, 0, OLDEST)
    assert one.conversation.probe is not None
    one.saw(True, 3, 0, OLDEST + 1)
    assert one.conversation.probe is None
    for number in range(3 * MOST_TRIPS):
        one.begin(True, 10 + number, OLDEST + 2)
        probe = one.conversation.probe
        assert probe is not None
        probe.left(OLDEST + 2)
        one.saw(False, 0, 10 + number, OLDEST + 3)
    assert one.tally.beyond == [1] * MOST_TRIPS


def test_conversations_that_take_turns_all_have_their_share() -> None:
    some = [Passing() for _ in range(16)]
    trips = RoundTrips()
    begun = [0] * len(some)
    for number in range(16 * 2000):
        one = some[number % len(some)]
        trips.saw(one.conversation, object(), segment(True, number, 0), True, number)
        begun[number % len(some)] += one.conversation.probe is not None
        one.conversation.probe = None
    assert sum(begun) == pytest.approx(16 * 2000 / EVERY, rel=0.1)
    assert min(begun) > 70 and max(begun) < 190


def short(up: bool, bit: int, six: bool = False, first: int = 0x40) -> bytes:
    """A packet of QUIC with a short header, or with that first byte."""
    near, far = (NEAR6, FAR6) if six else (NEAR4, FAR4)
    ends = near + far if up else far + near
    if six:
        head = bytes.fromhex("60000000") + (30).to_bytes(2) + b"\x11\x40" + ends
    else:
        head = bytes((0x45, 0, 0, 50, 0, 0, 0, 0, 64, 17, 0, 0)) + ends
    return head + bytes(8) + bytes((first | bit << 5,)) + bytes(21)


@pytest.mark.parametrize("six", [False, True])
def test_the_spin_bit_is_that_of_short_headers_alone(six: bool) -> None:
    assert [spin_bit(short(True, bit, six)) for bit in (0, 1)] == [0, 1]
    assert spin_bit(short(True, 1, six, 0xC0)) == spin_bit(short(True, 1, six, 0x00)) == -1
    assert spin_bit(short(True, 1, six)[: 48 if six else 28]) == -1


def spinning(bits: Callable[[bool, int], int], held: Nanoseconds = 5 * MILLISECOND) -> Passing:
    """A client in the house and a server beyond the line, each of whom sends a packet every half of a millisecond; what
    goes up waits in the gate. `bits` makes one that is sent from one that spins.
    """
    one = Passing()
    one.conversation.spin = Spin()
    ends = {True: 0, False: 0}  # the bit that each sends next, by its direction
    order = count()
    events: list[tuple[Nanoseconds, int, str, bool, int]] = []
    for number in range(1200):
        for up in (True, False):
            heappush(events, (number * MILLISECOND // 2, next(order), "sent", up, 0))
    while events:
        now, token, what, up, bit = heappop(events)
        before, behind = (HOUSE // 2, PATH // 2) if up else (PATH // 2, HOUSE // 2)
        if what == "sent":
            heappush(events, (now + before, next(order), "came", up, bits(up, ends[up])))
        elif what == "came":
            one.trips.spun(one.conversation, token, short(up, bit), up, now)
            heappush(events, (now + (held if up else 0), token, "left", up, bit))
        elif what == "left":
            probe = one.conversation.probe
            if probe is not None and probe.token == token:
                probe.left(now)
            heappush(events, (now + behind, token, "there", up, bit))
        else:
            ends[not up] = bit if up else 1 - bit
    return one


def test_a_spinning_bit_tells_the_trip_on_each_side_without_the_wait_in_the_gate() -> None:
    one = spinning(lambda _, bit: bit)
    assert one.tally.beyond and one.tally.inside
    assert one.tally.beyond == pytest.approx([PATH] * len(one.tally.beyond), abs=1.5 * MILLISECOND)
    assert one.tally.inside == pytest.approx([HOUSE] * len(one.tally.inside), abs=1.5 * MILLISECOND)


def test_bits_that_do_not_spin_tell_nothing() -> None:
    still = spinning(lambda _, __: 1)
    draw = random.Random(9)
    chance = spinning(lambda _, __: draw.randrange(2))
    assert still.tally.beyond is None and still.tally.inside is None
    assert chance.conversation.spin is None and len(chance.tally.beyond or ()) + len(chance.tally.inside or ()) <= 2
