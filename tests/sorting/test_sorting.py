"""Captures followed through a plan, and conversations that are only spoken of."""

import contextlib
import csv
import gzip
import io
import json
import struct
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import dpkt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice import examples
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.sorting.capture import Captured, CaptureError, Shortfall, read
from wily_sluice.sorting.follow import CaptureSorting, Follower

CAPTURE = examples.folder() / examples.CAPTURE
PLAN = examples.folder() / examples.PLAN
FOLLOWER = Follower(load(PLAN), load(PLAN).uplinks[0])
PCAPNG = struct.pack("<IIHHII", 1, 20, 101, 0, 0, 20) + struct.pack("<IIIIIII", 6, 60, 0, 1, 1, 28, 28) + bytes(32)


def sluice(*words: object) -> "subprocess.CompletedProcess[str]":
    command = [sys.executable, "-m", "wily_sluice", "classify", "--plan", str(PLAN), *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, check=False)


@pytest.fixture
def followed(demo_plan: Plan) -> CaptureSorting:
    follower = Follower(demo_plan, demo_plan.uplinks[0])
    for number, captured in enumerate(read(CAPTURE), 1):
        follower.packet(number, captured)
    return follower.finish()


def lengths() -> Iterator[int]:
    """What the capture holds, read by the library alone: lengths of IP packets, and of frames that have none."""
    for _, frame in dpkt.pcap.Reader(CAPTURE.open("rb")):
        kind, packet = frame[12:14], frame[14:]
        if kind == b"\x08\x00":
            yield int.from_bytes(packet[2:4])
        else:
            yield 40 + int.from_bytes(packet[4:6]) if kind == b"\x86\xdd" else len(frame)


def test_totals_add_up_to_the_bytes_of_the_capture(followed: CaptureSorting) -> None:
    assert followed.bytes == sum(lengths())
    shaped = followed.whole.bytes
    assert sum(followed.apart.values()) == 6 * 42 + 3 * 400  # six frames of ARP, three packets between our own hosts
    for totals in (followed.rules, followed.queues, followed.services, followed.hosts):
        assert sum(count.bytes for count in totals.values()) == shaped
    assert sum(one.count.bytes for one in followed.conversations) == shaped


def test_a_conversation_is_sorted_anew_as_more_is_seen_of_it(followed: CaptureSorting) -> None:
    download = max(followed.conversations, key=lambda one: one.count.bytes)
    down = [(decision.way.rule, decision.way.queue) for decision in download.decisions if decision.direction == "down"]
    assert down == [("Everybody at work", "work/desk"), ("Long downloads", "rest")]
    moved = next(d for d in download.decisions if d.way.rule == "Long downloads")
    before = [decision for decision in download.decisions if decision.packet < moved.packet]
    assert [tried.field for tried in before[0].way.tried if tried.rule == "Long downloads"] == ["moved"]
    game = next(one for one in followed.conversations if one.service == "marsh-league")
    assert [d.way.queue for d in game.decisions if d.direction == "up"] == ["rest", "play"]
    picture = next(one for one in followed.conversations if one.names == ("pictures.scans.example",))
    assert picture.way("up") is not None
    assert (picture.seen, picture.way("up").rule) == ("tls", "Scans")  # type: ignore[union-attr]


def test_the_program_explains_a_capture_and_says_the_same_in_json_and_csv() -> None:
    data = json.loads(sluice("--pcap", CAPTURE, "--json").stdout)
    rows = list(csv.DictReader(io.StringIO(sluice("--pcap", CAPTURE, "--csv").stdout)))
    assert [row["rule"] or None for row in rows] == [
        next(d["rule"] for d in reversed(one["decisions"]) if d["direction"] == "up") for one in data["conversations"]
    ]
    assert sum(int(row["up"]) + int(row["down"]) for row in rows) + 252 + 1200 == data["bytes"]
    told = sluice("--pcap", CAPTURE, "--conversation", 9).stdout
    assert "Speaks rtp." in told
    assert "5 packets of one source in their order" in told
    assert "Video consultations" in told


def test_the_program_explains_a_conversation_that_is_only_spoken_of() -> None:
    where = ("--local", "10.61.0.12", "--remote", "203.0.113.9:443/udp", "--name", "meet.example", "--uplink", "fibre")
    way = json.loads(sluice(*where, "--json").stdout)["uplinks"]["fibre"]["up"]
    assert (way["rule"], way["queue"]) == ("Everybody at work", "work/desk")
    assert {"rule": "Long downloads", "field": "moved", "unknown": True} in way["tried"]
    moved = json.loads(sluice(*where, "--moved", "25 MB", "--json").stdout)["uplinks"]["fibre"]["up"]
    assert moved["rule"] == "Long downloads"
    night = ("--local", "10.61.0.80", "--remote", "198.51.100.90:443", "--uplink", "fibre", "--json")
    by_day = json.loads(sluice(*night, "--at", "2027-03-25T10:00").stdout)["uplinks"]["fibre"]["up"]
    by_night = json.loads(sluice(*night, "--at", "2027-03-25T23:00").stdout)["uplinks"]["fibre"]["up"]
    assert (by_day["limiters"], by_night["limiters"]) == (["backup-by-day"], [])
    swarm = json.loads(
        sluice("--local", "10.61.0.12", "--remote", "203.0.113.9:9/udp", "--seen", "utp", "--json").stdout
    )
    assert swarm["uplinks"]["fibre"]["up"]["mark"] == 1  # LE, RFC 8622


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--local", "10.61.0.12"), "give --local and --remote"),
        (("--local", "10.62.0.12", "--remote", "203.0.113.9"), "none of your networks"),
        (("--local", "10.61.0.12", "--remote", "2001:db8::9"), "IPv6"),
        (("--local", "10.61.0.12", "--remote", "203.0.113.9:99999"), "is not an address"),
        (("--pcap", PLAN), "is a text file: a capture is"),
        (("--pcap", "missing.pcap"), "cannot read"),
    ],
)
def test_what_cannot_be_classified_is_said_plainly(words: tuple[object, ...], said: str) -> None:
    run = sluice(*words)
    assert run.returncode != 0
    assert said in run.stderr
    assert "Traceback" not in run.stderr


def test_packets_are_found_whatever_link_they_were_recorded_on(tmp_path: Path) -> None:
    packet = next(captured.packet for captured in read(CAPTURE) if captured.packet)
    links = {
        # A VLAN's tag, then PPPoE.
        dpkt.pcap.DLT_EN10MB: bytes(12) + bytes.fromhex("8100000a8864") + bytes(6) + b"\0\x21",
        dpkt.pcap.DLT_RAW: b"",
        dpkt.pcap.DLT_LINUX_SLL: bytes(14) + b"\x08\0",
        dpkt.pcap.DLT_NULL: b"\2\0\0\0",
    }
    for link, head in links.items():
        for kind, writer in (("pcap", dpkt.pcap.Writer), ("pcapng", dpkt.pcapng.Writer)):
            file = tmp_path / f"{link}.{kind}"
            with file.open("wb") as out:
                if kind == "pcap":
                    writer(out, linktype=link).writepkt(head + packet, 7.5)
                else:
                    writer(out, idb=dpkt.pcapng.InterfaceDescriptionBlockLE(linktype=link)).writepkt(head + packet, 7.5)
            assert [(one.now, one.packet) for one in read(file)] == [(7_500_000_000, packet)], file


def block(kind: int, body: bytes, order: str = "<") -> bytes:
    """A block of pcapng, draft-ietf-opsawg-pcapng §3.1."""
    body += bytes(-len(body) % 4)
    length = struct.pack(f"{order}I", 12 + len(body))
    return struct.pack(f"{order}I", kind) + length + body + length


def section(order: str) -> bytes:
    return block(0x0A0D0D0A, struct.pack(f"{order}IHHq", 0x1A2B3C4D, 1, 0, -1), order)


def test_a_file_of_several_interfaces_sections_and_kinds_of_blocks_is_read_whole(tmp_path: Path) -> None:
    packet = next(captured.packet for captured in read(CAPTURE) if captured.packet)
    framed = bytes(12) + b"\x08\0" + packet
    moment = 1_800_000_000

    def enhanced(interface: int, count: int, data: bytes, order: str = "<") -> bytes:
        head = struct.pack(f"{order}IIIII", interface, count >> 32, count & 0xFFFFFFFF, len(data), len(data))
        return block(6, head + data, order)

    nanoseconds, binary = struct.pack("<HHBxxx", 9, 1, 9), struct.pack("<HHBxxx", 9, 1, 0x80 | 10)
    offset = struct.pack("<HHq", 14, 8, moment)
    parts = [
        section("<"),
        block(1, struct.pack("<HHI", 1, 0, 0)),  # Ethernet, in microseconds
        block(1, struct.pack("<HHI", 101, 0, 0) + nanoseconds),  # IP alone
        block(1, struct.pack("<HHI", 101, 0, 0) + binary + offset),  # in 1024ths of a second, beside a moment
        block(4, bytes(8)),  # names
        block(5, bytes(12)),  # statistics
        block(0x0BAD, b"somebody's own"),
        enhanced(0, moment * 10**6 + 1, framed),
        enhanced(1, moment * 10**9 + 2, packet),
        enhanced(2, 512, packet),
        block(3, struct.pack("<I", len(framed)) + framed),  # simple: of the first interface, and with no time
        enhanced(7, 0, packet),  # of an interface that is not there
        enhanced(0, 1 << 63, framed),  # far away
        section(">"),
        block(1, struct.pack(">HHI", 12, 0, 0), ">"),
        enhanced(0, moment * 10**6, packet, ">"),
    ]
    file, packed, missing = tmp_path / "a.pcapng", tmp_path / "a.pcapng.gz", Shortfall()
    file.write_bytes(b"".join(parts))
    packed.write_bytes(gzip.compress(file.read_bytes()))
    found = list(read(file, missing))
    assert [one.packet for one in found] == [packet] * 6
    base = moment * 10**9
    assert [one.now - base for one in found] == [1000, 2, 500_000_000, 500_000_000, 500_000_000, 0]
    assert (missing.packets, missing.without, missing.timeless, missing.broken) == (6, 1, 2, False)
    assert list(read(packed)) == found
    for short, kept in ((file.read_bytes()[:-9], 5), (gzip.compress(file.read_bytes())[:-20], None)):
        cut, missing = tmp_path / "cut", Shortfall()
        cut.write_bytes(short)
        assert kept is None or len(list(read(cut, missing))) == kept
        assert len(list(read(cut, missing))) <= 6
        assert missing.broken


def test_packets_that_were_cut_within_their_headers_are_left_out_and_counted(tmp_path: Path) -> None:
    packet = next(captured.packet for captured in read(CAPTURE) if captured.packet)
    frame = bytes(12) + b"\x08\0" + packet
    file, missing = tmp_path / "short.pcap", Shortfall()
    head = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 64, 1)
    records = [struct.pack("<IIII", 7, 0, kept, len(frame)) + frame[:kept] for kept in (10, 30, 38, 64)]
    file.write_bytes(head + b"".join(records))
    assert [len(one.packet) for one in read(file, missing)] == [24, 50]
    assert (missing.packets, missing.short) == (4, 2)
    told = sluice("--pcap", file)
    assert told.returncode == 0
    assert "2 packets were captured without their whole headers" in told.stderr


@given(st.data())
def test_a_capture_with_any_bytes_changed_is_read_as_far_as_it_goes(data: st.DataObject) -> None:
    whole = bytearray(CAPTURE.read_bytes()[:4000] if data.draw(st.booleans()) else section("<") + PCAPNG)
    for index, value in data.draw(st.lists(st.tuples(st.integers(0, len(whole) - 1), st.integers(0, 255)), max_size=9)):
        whole[index] = value
    with tempfile.NamedTemporaryFile() as file:
        file.write(whole[: data.draw(st.integers(0, len(whole)))])
        file.flush()
        with contextlib.suppress(CaptureError):
            for number, captured in enumerate(read(Path(file.name)), 1):
                assert len(captured.packet) <= len(whole)
                FOLLOWER.packet(number, captured)


def test_a_connection_that_was_refused_is_not_one_that_was_not_recognised(demo_plan: Plan) -> None:
    follower = Follower(demo_plan, demo_plan.uplinks[0])
    local, far = bytes([10, 61, 0, 12]), bytes([203, 0, 113, 9])

    def tcp(up: bool, flags: int, port: int = 7777) -> bytes:
        ends = (local + far, (40_000, port)) if up else (far + local, (port, 40_000))
        head = bytes([0x45, 0, 0, 40, 0, 0, 0, 0, 64, 6, 0, 0]) + ends[0]
        return head + ends[1][0].to_bytes(2) + ends[1][1].to_bytes(2) + bytes(8) + bytes([0x50, flags]) + bytes(6)

    for number, one in enumerate((tcp(True, 2), tcp(False, 0x14), tcp(True, 2, 7778), tcp(True, 0x10, 7778))):
        follower.packet(number + 1, Captured(number, one, b"", len(one)))
    assert [one.service for one in follower.finish().conversations] == ["(never opened)", "unknown"]


def test_malformed_packets_are_counted_and_end_nothing(demo_plan: Plan) -> None:
    follower = Follower(demo_plan, demo_plan.uplinks[0])
    local, far = bytes([10, 61, 0, 12]), bytes([203, 0, 113, 9])

    def packet(protocol: int, rest: bytes, fragment: int = 0, words: int = 5, length: int = 100) -> bytes:
        head = bytes([0x40 | words, 0, 0, length, 0, 0]) + fragment.to_bytes(2) + bytes([64, protocol, 0, 0])
        return head + local + far + rest

    odd = [
        packet(6, b"\x01"),  # ends within the ports
        packet(17, b"\x01\x02\x03\x04", words=15),  # options that are not there
        packet(17, bytes(8), fragment=0x2000),  # a first fragment
        packet(6, bytes(20), fragment=0x00B9),  # a later one
        packet(4, packet(4, packet(17, bytes(8)))),  # tunnels in tunnels
        packet(47, bytes(4) + packet(6, bytes(20))),
        packet(6, bytes(12) + b"\xf0" + bytes(7)),  # a TCP header that says it is longer than it is
    ]
    for number, one in enumerate(odd, 1):
        follower.packet(number, Captured(number, one, b"", len(one)))
    follower.packet(8, Captured(8, b"\x45\0", b"", 2))
    found = follower.finish()
    assert found.rules.keys() == {"Everybody at work"}
    assert found.whole.packets == len(odd)
    assert found.packets_apart == {"not IP": 1}


@pytest.mark.parametrize(
    ("capture", "limited"), [("tls12", True), ("quic-long", True), ("tls13", False), ("quic", False)]
)
def test_films_of_a_tablet_are_limited_by_their_names_over_tls_and_quic(
    small_plan: Callable[..., Plan], capture: str, limited: bool
) -> None:
    """The captures are of one host: two conversations with films.example, two with another name."""
    plan = small_plan(
        ("10.7.0.0/24", "10.61.0.0/24"),
        ("limiters:", "hosts: {tablet: 10.61.0.41}\nservices: {films: {category: streaming, names: [films.example]}}\n"
         "limiters:\n  tablet-films: {local: tablet, service: streaming, down: 6 Mbit/s}"),
    )  # fmt: skip
    follower = Follower(plan, plan.uplinks[0])
    for number, captured in enumerate(read(Path("tests/recognition/captures") / f"{capture}.pcap"), 1):
        follower.packet(number, captured)
    (conversation,) = follower.finish().conversations
    last = [decision for decision in conversation.decisions if decision.direction == "down"][-1]
    assert last.way.limiters == (("tablet-films",) if limited else ())
