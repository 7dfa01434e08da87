"""Whom a packet is charged to: the device that sent it, whatever it writes into it."""

import struct
from collections.abc import Callable
from ipaddress import ip_address

import pytest

from tests.gate.fakes import Queue
from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import ICMP, UDP, Parties, key_of
from wily_sluice.engine.classify.neighbours import HOLD
from wily_sluice.engine.conversations.aggregate import FIRST_DEVICES, FIRST_NEW_FLOWS, FIRST_OWN, NEW_DEVICES, NEW_FLOWS
from wily_sluice.engine.conversations.conversation import ERRORS, Conversation
from wily_sluice.engine.packet import Framing
from wily_sluice.engine.site import SiteEngine
from wily_sluice.gate.admission import Admission
from wily_sluice.gate.kernel.packet_queue import PacketQueue, QueuedPacket
from wily_sluice.gate.overload import MOST_WAITING, SLOTS, NewFlows
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import MILLISECOND, SECOND

VICTIM, OTHER, REMOTE, ROUTER = (ip_address(a).packed for a in ("10.7.0.9", "10.7.0.10", "198.51.100.1", "203.0.113.9"))
PHONE, TABLET = bytes([2, 0, 0, 0, 0, 1]), bytes([2, 0, 0, 0, 0, 2])
CALL = key_of(Parties(UDP, VICTIM, REMOTE, 5004, 5004))


def ipv4(source: bytes, target: bytes, protocol: int, payload: bytes) -> bytes:
    head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(payload), 1, 0, 64, protocol, 0)
    return head + source + target + payload


def datagram(source: bytes, target: bytes, length: int = 200) -> bytes:
    return ipv4(source, target, UDP, struct.pack(">HHHH", 5004, 5004, length - 20, 0) + bytes(length - 28))


def error(source: bytes, target: bytes, quoted: bytes, length: int) -> bytes:
    """An ICMP error (RFC 792: destination unreachable) of so many bytes that quotes a packet."""
    body = bytes([3, 1, 0, 0, 0, 0, 0, 0]) + quoted
    return ipv4(source, target, ICMP, body.ljust(length - 20, b"\0"))


def kernel_queue() -> PacketQueue:
    fake = Queue()
    return PacketQueue(0, connect=lambda: fake.end)


class Ways:
    def __init__(self, plan: Plan) -> None:
        self._queue = kernel_queue()
        self.engine: SiteEngine = build_site(plan, lambda _: None, crowded=True)
        self.engine.neighbours.look_near(AddressSet([(ip_address("10.7.0.0").packed, ip_address("10.7.0.255").packed)]))
        self._ways = {
            up: Admission(self.engine, Recognition(), Framing(0), "up" if up else "down", False) for up in (True, False)
        }

    def admit(self, packet: bytes, up: bool, now: int, hardware: bytes = b"") -> Conversation:
        diverted = QueuedPacket(b"", packet, 0, 0, hardware, 0, self._queue)
        return self._ways[up].admit(diverted, now).conversation


@pytest.fixture
def ways(small_plan: Callable[..., Plan]) -> Ways:
    return Ways(small_plan())


def test_what_a_device_sends_by_the_address_of_another_is_its_own(ways: Ways) -> None:
    theirs = ways.admit(datagram(VICTIM, REMOTE), True, 0, PHONE)
    own = ways.admit(datagram(OTHER, REMOTE), True, 0, TABLET)
    assert theirs.key == CALL and own.parties.local == OTHER
    for second in range(1, 60):  # as long as the one that has the address is heard
        assert ways.admit(datagram(VICTIM, REMOTE), True, second * SECOND, TABLET) is own
        assert ways.admit(datagram(VICTIM, REMOTE), True, second * SECOND, PHONE) is theirs
    assert ways.admit(datagram(VICTIM, REMOTE), True, 60 * SECOND + HOLD, TABLET) is theirs


def test_fragments_by_the_address_of_another_device_are_its_senders_too(ways: Ways) -> None:
    ways.admit(datagram(VICTIM, REMOTE), True, 0, PHONE)
    own = ways.admit(datagram(OTHER, REMOTE), True, 0, TABLET)
    whole = datagram(VICTIM, REMOTE, 1200)
    first, later = (whole[:6] + struct.pack(">H", field) + whole[8:] for field in (0x2000, 0x2000 | 100))
    assert ways.admit(first, True, SECOND, TABLET) is own
    assert ways.admit(later, True, SECOND, TABLET).parties.local == OTHER
    assert ways.admit(first, True, SECOND, PHONE).key == CALL  # whose they are, if it has sent them


def test_a_device_without_an_address_that_writes_that_of_another_is_a_stranger(ways: Ways) -> None:
    theirs = ways.admit(datagram(VICTIM, REMOTE), True, 0, PHONE)
    spoofed = ways.admit(datagram(VICTIM, REMOTE), True, 1, TABLET)
    assert spoofed is not theirs and spoofed.parties.local not in (VICTIM, OTHER)


@pytest.mark.parametrize("up", [True, False])
def test_an_error_rides_with_the_conversation_that_it_is_about_if_it_is_small_and_rare(ways: Ways, up: bool) -> None:
    call = ways.admit(datagram(VICTIM, REMOTE), True, 0)
    ends = (VICTIM, ROUTER) if up else (ROUTER, VICTIM)
    quoted = datagram(*((REMOTE, VICTIM) if up else (VICTIM, REMOTE)), length=100)
    assert ways.admit(error(*ends, quoted, 128), up, 0) is call
    assert ways.admit(error(*ends, quoted, 577), up, SECOND) is not call
    assert ways.admit(error(*ends, quoted, 576), up, SECOND) is call
    # About a conversation of somebody else: not theirs.
    elsewhere = (OTHER, ROUTER) if up else (ROUTER, OTHER)
    assert ways.admit(error(*elsewhere, quoted, 128), up, 2 * SECOND) is not call
    ridden = [ways.admit(error(*ends, quoted, 576), up, 3 * SECOND + n * MILLISECOND) is call for n in range(10_000)]
    assert sum(ridden) == pytest.approx(11 * ERRORS, abs=2)


@pytest.mark.parametrize("flooding", [1, 4, 40])
def test_a_neighbour_of_those_who_flood_loses_none_of_its_first_packets(flooding: int) -> None:
    """Each device has its turn, however many addresses it writes; the neighbour's packets wait for few of theirs."""
    new_flows, queue = NewFlows(up=True), kernel_queue()

    def put(device: int, address: int, token: bytes) -> bool:
        header = datagram(bytes([10, 7, address >> 8, address & 255]), REMOTE)
        diverted = QueuedPacket(token, header, 0, 0, bytes([2, 0, 0, 0, 1, device]), 0, queue)
        return new_flows.put(diverted, b"")

    taken: list[bytes] = []
    for turn in range(200):
        for number in range(400):
            put(number % flooding, turn * 400 + number & 0xFFFF, b"many")
        assert put(200, 9, b"near")
        for _ in range(min(100, new_flows.waiting)):
            taken.append(new_flows.take().token)
    assert taken.count(b"near") == 200 and new_flows.shed
    assert new_flows.waiting < 2 * MOST_WAITING


def test_more_senders_than_queues_share_them_and_none_is_called_too_early() -> None:
    new_flows, queue = NewFlows(up=True), kernel_queue()

    def packet(device: int) -> QueuedPacket:
        return QueuedPacket(b"", datagram(VICTIM, REMOTE), 0, 0, b"\2\0" + device.to_bytes(4), 0, queue)

    for device in range(SLOTS):
        new_flows.put(packet(device), b"")
    assert new_flows.is_called(new_flows.ticket(packet(SLOTS)))  # of it nothing waits
    new_flows.put(packet(SLOTS), b"")
    ticket = new_flows.ticket(packet(SLOTS))
    assert not new_flows.is_called(ticket)
    while new_flows.waiting:
        new_flows.take()
    assert new_flows.is_called(ticket)


def test_a_conversation_is_recognised_by_packets_of_the_ordinary_queue_too(ways: Ways) -> None:
    request = struct.pack(">HHI12s", 1, 0, 0x2112A442, bytes(12))  # RFC 8489 §5
    header = ipv4(OTHER, REMOTE, UDP, struct.pack(">HHHH", 40_000, 3478, 8 + len(request), 0) + request)
    seen = [ways.admit(header, True, SECOND + n * MILLISECOND) for n in range(2)][-1]
    assert seen.known is not None and seen.known.seen == "stun"


def test_a_flood_of_new_conversations_keeps_no_other_device_from_opening_some(ways: Ways) -> None:
    opened = 0
    for number in range(20_000):  # in a second
        now = SECOND + number * SECOND // 20_000
        source = bytes([10, 7, 0, 100 + number % 50])
        header = ipv4(source, REMOTE, UDP, struct.pack(">HHHH", 1024 + number, 9, 28, 0) + bytes(20))
        ways.admit(header, True, now, PHONE)
        if number % 1000 == 0:
            call = ipv4(OTHER, REMOTE, UDP, struct.pack(">HHHH", 6000 + number, 9, 28, 0) + bytes(20))
            opened += ways.admit(call, True, now, TABLET).parties.local_port == 6000 + number
    assert opened == 20
    assert len(ways.engine.conversations) <= NEW_FLOWS + FIRST_NEW_FLOWS + 2 * FIRST_OWN


def test_ever_new_devices_open_no_more_than_all_may_together(ways: Ways) -> None:
    for number in range(20_000):
        device = bytes([2, 1]) + number.to_bytes(4)
        source = bytes([10, 7, number >> 8 & 255, number & 255])
        ways.admit(datagram(source, REMOTE), True, SECOND + number * SECOND // 20_000, device)
    assert len(ways.engine.conversations) <= NEW_FLOWS + FIRST_NEW_FLOWS + FIRST_DEVICES + NEW_DEVICES + 10


def test_who_takes_a_new_address_each_second_has_others_sorted_again_ever_more_rarely(ways: Ways) -> None:
    shaper = ways.engine.shapers["line", "up"]
    begun = shaper.epoch
    for second in range(240):
        ways.admit(datagram(bytes([10, 7, 0, second]), REMOTE), True, (1 + second) * SECOND, TABLET)
        ways.engine.settle((1 + second) * SECOND)
    assert 10 < shaper.epoch - begun < 24
