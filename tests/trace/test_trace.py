"""Captures followed through a plan, and conversations that are only spoken of."""

import csv
import io
import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import dpkt
import pytest

from wily_sluice import examples
from wily_sluice.plan.model import Plan
from wily_sluice.trace.capture import Captured, CaptureError, read
from wily_sluice.trace.follow import Follower, Trace

CAPTURE = examples.folder() / examples.CAPTURE
PLAN = examples.folder() / examples.PLAN


def sluice(*words: object) -> "subprocess.CompletedProcess[str]":
    command = [sys.executable, "-m", "wily_sluice", "trace", "--plan", str(PLAN), *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, check=False)


@pytest.fixture
def followed(demo_plan: Plan) -> Trace:
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


def test_totals_add_up_to_the_bytes_of_the_capture(followed: Trace) -> None:
    assert followed.bytes == sum(lengths())
    shaped = followed.whole.bytes
    assert sum(followed.apart.values()) == 6 * 42 + 3 * 400  # six frames of ARP, three packets between our own hosts
    for totals in (followed.rules, followed.queues, followed.services, followed.hosts):
        assert sum(count.bytes for count in totals.values()) == shaped
    assert sum(one.count.bytes for one in followed.conversations) == shaped


def test_a_conversation_is_sorted_anew_as_more_is_seen_of_it(followed: Trace) -> None:
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
    assert {"rule": "Long downloads", "field": "moved"} in way["tried"]
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
        (("--local", "10.61.0.12"), "say --local and --remote"),
        (("--local", "10.62.0.12", "--remote", "203.0.113.9"), "none of your networks"),
        (("--local", "10.61.0.12", "--remote", "2001:db8::9"), "IPv6"),
        (("--local", "10.61.0.12", "--remote", "203.0.113.9:99999"), "no party"),
        (("--pcap", PLAN), "is no capture"),
        (("--pcap", "missing.pcap"), "cannot be read"),
    ],
)
def test_what_cannot_be_traced_is_said_plainly(words: tuple[object, ...], said: str) -> None:
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
    cut = tmp_path / "cut.pcapng"
    cut.write_bytes((tmp_path / f"{dpkt.pcap.DLT_RAW}.pcapng").read_bytes()[:-9])
    with pytest.raises(CaptureError, match="breaks off behind packet 0"):
        list(read(cut))


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
    trace = follower.finish()
    assert trace.rules.keys() == {"Everybody at work"}
    assert trace.whole.packets == len(odd)
    assert trace.packets_apart == {"not IP": 1}
