import struct
from ipaddress import ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.engine.header import TCP, UDP, Parties, key_of, parse, parties

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


def test_all_fragments_of_a_datagram_have_one_key() -> None:
    first = parse(v4(HOST, FAR, (5004, 443), fragment=0x2000), up=True)
    later = parse(v4(HOST, FAR, (0xDEAD, 0xBEEF), fragment=0x00B9), up=True)
    whole = parse(v4(HOST, FAR, (5004, 443), fragment=0x4000), up=True)  # may not be fragmented, and is not
    assert first is not None
    assert later is not None
    assert whole is not None
    assert first.key == later.key != whole.key
    piece = parse(v6(HOST6, FAR6, bytes([UDP, 0]) + bytes(14), following=44), up=True)
    assert piece is not None
    assert parties(piece.key) == Parties(UDP, HOST6, FAR6, 0, 0)


@pytest.mark.parametrize("junk", [b"", b"\x45", bytes(64), b"\x60" + bytes(38), b"\x95" + bytes(60)])
def test_what_is_no_ip_packet_is_none(junk: bytes) -> None:
    assert parse(junk, up=True) is None


@given(st.binary(max_size=160), st.booleans(), st.sampled_from([None, 0x45, 0x4F, 0x60, 0x40]))
def test_no_bytes_make_it_fail(data: bytes, up: bool, first: int | None) -> None:
    if first is not None and data:
        data = bytes([first]) + data[1:]
    parsed = parse(data, up)
    assert parsed is None or key_of(parties(parsed.key)) == parsed.key
