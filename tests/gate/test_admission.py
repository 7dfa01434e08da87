"""Whom a packet is charged to: the device that sent it, whatever it writes into it."""

import struct
from collections.abc import Callable
from ipaddress import ip_address

import pytest

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import ICMP, UDP, Parties, key_of
from wily_sluice.engine.classify.neighbours import HOLD
from wily_sluice.engine.conversations.conversation import ERRORS, Conversation
from wily_sluice.engine.packet import Framing
from wily_sluice.engine.site import SiteEngine
from wily_sluice.gate.admission import Admission
from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
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


class Ways:
    def __init__(self, plan: Plan) -> None:
        self.engine: SiteEngine = build_site(plan, lambda _: None)
        self.engine.neighbours.look_near(AddressSet([(ip_address("10.7.0.0").packed, ip_address("10.7.0.255").packed)]))
        self._ways = {
            up: Admission(self.engine, None, Framing(0), "up" if up else "down", False) for up in (True, False)
        }

    def admit(self, packet: bytes, up: bool, now: int, hardware: bytes = b"") -> Conversation:
        diverted = QueuedPacket(b"", packet, 0, 0, hardware, 0, None)  # type: ignore[arg-type]
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
