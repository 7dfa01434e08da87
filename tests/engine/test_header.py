import struct
from ipaddress import ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, UDP, Parties, key_of, parse, parties, quoted
from wily_sluice.engine.conversations.conversation import LIFE, MOST, Fragments

HOST, FAR = ip_address("10.61.0.41").packed, ip_address("203.0.113.9").packed
HOST6, FAR6 = ip_address("fd61::41").packed, ip_address("2001:db8::9").packed


def v4(source: bytes, target: bytes, ports: tuple[int, int], *, protocol: int = UDP, dscp: int = 0, fragment: int = 0,
       options: bytes = b"") -> bytes:  # fmt: skip
    words = 5 + len(options) // 4
    head = struct.pack("!BBHHHBBH", 0x40 | words, dscp << 2, 200, 1, fragment, 64, protocol, 0)
    return head + source + target + options + struct.pack("!HHHH", *ports, 180, 0)


def v6(source: bytes, target: bytes, body: bytes, *, following: int, dscp: int = 0) -> bytes:
    return struct.pack("!IHBB", 6 << 28 | dscp << 22, 160, following, 64) + source + target + body


def test_both_directions_of_a_conversation_have_one_key() -> None:
    up = parse(v4(HOST, FAR, (5004, 443), dscp=46), up=True)
    down = parse(v4(FAR, HOST, (443, 5004)), up=False)
    assert up is not None
    assert down is not None
    assert up.key == down.key
    assert (up.dscp, down.dscp, up.length, up.headers) == (46, 0, 200, 28)  # IPv4 and UDP
    assert parties(up.key) == Parties(UDP, HOST, FAR, 5004, 443)


def test_ipv6_has_one_key_too_and_its_length_counts_the_header() -> None:
    ports = struct.pack("!HHHH", 5004, 443, 160, 0)
    up = parse(v6(HOST6, FAR6, ports, following=UDP, dscp=46), up=True)
    assert up is not None
    assert parties(up.key) == Parties(UDP, HOST6, FAR6, 5004, 443)
    assert (up.length, up.dscp, up.headers) == (200, 46, 48)


def test_ports_are_found_behind_options_and_extension_headers() -> None:
    with_options = parse(v4(HOST, FAR, (1, 2), options=bytes(8)), up=True)
    assert with_options is not None
    assert parties(with_options.key)[3:] == (1, 2)
    # Hop-by-hop (8 bytes), then an authentication header of (4 + 2) × 4 = 24 bytes, then TCP.
    chain = bytes([51, 0]) + bytes(6) + bytes([TCP, 4]) + bytes(22) + struct.pack("!HH", 7, 8)
    parsed = parse(v6(HOST6, FAR6, chain, following=0), up=True)
    assert parsed is not None
    assert parties(parsed.key) == Parties(TCP, HOST6, FAR6, 7, 8)


def test_all_fragments_of_a_datagram_go_by_the_conversation_that_its_first_one_names() -> None:
    table = Fragments()

    def key(packet: bytes, now: int = 0) -> bytes:
        parsed = parse(packet, up=True)
        assert parsed is not None and parsed.datagram
        return table.key(parsed, now)

    whole = parse(v4(HOST, FAR, (5004, 443), fragment=0x4000), up=True)  # may not be fragmented, and is not
    assert whole is not None and not whole.datagram
    later = v4(HOST, FAR, (0xDEAD, 0xBEEF), fragment=0x00B9)
    assert parties(key(later)) == Parties(UDP, HOST, FAR, 0, 0)  # before the first: who knows
    assert key(v4(HOST, FAR, (5004, 443), fragment=0x2000)) == key(later) == whole.key
    assert parties(key(later, LIFE)) == Parties(UDP, HOST, FAR, 0, 0)
    first6, later6 = (bytes([UDP, 0, 0, at]) + b"same" + bytes.fromhex("138c01bb") + bytes(4) for at in (1, 9))
    expected = Parties(UDP, HOST6, FAR6, 5004, 443)
    assert parties(key(v6(HOST6, FAR6, first6, following=44))) == expected
    assert parties(key(v6(HOST6, FAR6, later6, following=44))) == expected


def test_a_flood_of_first_fragments_takes_no_more_room_than_it_may() -> None:
    table = Fragments()
    for number in range(3 * MOST):
        parsed = parse(v4(HOST, FAR[:2] + number.to_bytes(2), (5004, 443), fragment=0x2000), up=True)
        assert parsed is not None
        table.key(parsed, 0)
    assert len(table) <= MOST


def test_an_icmp_error_is_of_the_conversation_that_it_is_about() -> None:
    sent = v4(HOST, FAR, (5004, 443))
    router = bytes([192, 0, 2, 1])
    error = v4(router, HOST, (0x0303, 0), protocol=ICMP)[:28] + sent[:28]  # port unreachable
    whole = parse(sent, up=True)
    assert whole is not None
    assert quoted(error, up=False) == whole.key
    assert quoted(v4(router, HOST, (0x0800, 0), protocol=ICMP), up=False) == b""  # an echo
    sent6 = v6(HOST6, FAR6, bytes.fromhex("138c01bb") + bytes(4), following=UDP)
    error6 = v6(FAR6, HOST6, bytes([2, 0]) + bytes(6) + sent6, following=ICMPV6)  # packet too big
    assert parties(quoted(error6, up=False)) == Parties(UDP, HOST6, FAR6, 5004, 443)


@pytest.mark.parametrize("junk", [b"", b"\x45", bytes(64), b"\x60" + bytes(38), b"\x95" + bytes(60)])
def test_what_is_no_ip_packet_is_none(junk: bytes) -> None:
    assert parse(junk, up=True) is None


@given(st.binary(max_size=160), st.booleans(), st.sampled_from([None, 0x45, 0x4F, 0x60, 0x40]))
def test_no_bytes_make_it_fail(data: bytes, up: bool, first: int | None) -> None:
    if first is not None and data:
        data = bytes([first]) + data[1:]
    parsed = parse(data, up)
    assert parsed is None or key_of(parties(parsed.key)) == parsed.key
    assert parsed is None or len(quoted(data, up)) in (0, 13, 37)
