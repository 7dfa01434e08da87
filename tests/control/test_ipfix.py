"""Conversations as a collector hears of them, read by the rules of RFC 7011 and nothing of ours."""

import socket
import struct
from collections.abc import Callable
from ipaddress import ip_address

import pytest

from wily_sluice.control.api.ipfix import ACTIVE, LARGEST, FlowExport, Sent, messages
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Packet
from wily_sluice.gate.observers import MOST_TALKS, Talk, copy_talks
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan

NEAR, FAR = ip_address("10.7.0.100").packed, ip_address("198.51.100.10").packed
KEY = key_of(Parties(6, NEAR, FAR, 40_000, 443))
KEY6 = key_of(Parties(17, ip_address("fd07::5").packed, ip_address("2001:db8::9").packed, 5004, 5006))


class Collector:
    """Reads messages by the templates that they carry."""

    def __init__(self) -> None:
        self.templates: dict[int, list[tuple[int, int]]] = {}
        self.records: list[dict[int, bytes]] = []

    def hear(self, message: bytes) -> None:
        version, length, _, sequence, _ = struct.unpack_from(">HHIII", message)
        assert (version, length) == (10, len(message)) and sequence == len(self.records)
        at = 16
        while at < length:
            kind, size = struct.unpack_from(">HH", message, at)
            assert size > 4 and at + size <= length
            body = message[at + 4 : at + size]
            self._templates(body) if kind == 2 else self._data(kind, body)
            at += size

    def _templates(self, body: bytes) -> None:
        at = 0
        while at < len(body):
            number, count = struct.unpack_from(">HH", body, at)
            self.templates[number] = [struct.unpack_from(">HH", body, at + 4 + 4 * n) for n in range(count)]  # type: ignore[misc]
            at += 4 + 4 * count

    def _data(self, template: int, body: bytes) -> None:
        at = 0
        while at < len(body):
            record = {}
            for element, size in self.templates[template]:
                if size == 65_535:
                    size, at = body[at], at + 1
                record[element] = body[at : at + size]
                at += size
            self.records.append(record)


def number(field: bytes) -> int:
    return int.from_bytes(field)


def test_a_message_is_what_the_standard_says_byte_by_byte() -> None:
    one = Sent(1_000, 61_000, KEY, "up", 1500, 3, "line", "web")
    ((message, records),) = messages([one], 61, 7)
    assert records == 1
    data = bytes.fromhex(
        "0100 003b" "00000000000003e8" "000000000000ee48" "0a070064" "c633640a" "9c40 01bb 06"
        "01" "00000000000005dc" "0000000000000003" "04 6c696e65" "03 776562"
    )  # fmt: skip
    assert message.endswith(data) and message[:16] == struct.pack(">HHIII", 10, len(message), 61, 7, 1)


def test_every_record_arrives_whatever_the_number_and_no_message_is_too_large() -> None:
    sent = [Sent(n, n + 1, (KEY, KEY6, b"")[n % 3], ("up", "down")[n % 2], n, 1, "line", "") for n in range(500)]
    collector = Collector()
    for message, _ in messages(sent, 5, 0):
        assert len(message) <= LARGEST
        collector.hear(message)
    assert sorted(number(record[1]) for record in collector.records) == list(range(500))
    down = next(record for record in collector.records if number(record[1]) == 3)
    assert (down[8], down[12], number(down[7]), number(down[11]), down[61]) == (FAR, NEAR, 443, 40_000, b"\x00")
    six = next(record for record in collector.records if number(record[1]) == 4)
    assert (six[27], six[28]) == (KEY6[1:17], KEY6[17:33])


@pytest.mark.parametrize("family", [socket.AF_INET, socket.AF_INET6])
def test_a_collector_is_told_each_minute_and_of_what_has_fallen_silent_and_sums_are_right(family: int) -> None:
    loopback = "127.0.0.1" if family == socket.AF_INET else "::1"
    with socket.socket(family, socket.SOCK_DGRAM) as end:
        end.bind((loopback, 0))
        end.settimeout(2)
        export = FlowExport()
        export.aim((loopback, end.getsockname()[1]))
        lasting = Talk("line", "up", KEY, 1000, 2, "rest", "", "web", "tls")
        short = Talk("line", "down", KEY6, 70, 1, "rest", "", "", "")
        for second in range(200):
            export.add(1_000 + second, [lasting, *([short] if second < 3 else [])])
        export.close()
        collector = Collector()
        end.settimeout(0.2)
        while True:
            try:
                collector.hear(end.recv(65_536))
            except TimeoutError:
                break
    long = [record for record in collector.records if 8 in record]
    assert sum(number(record[1]) for record in long) == 200_000 and len(long) == 4
    assert all(number(record[153]) - number(record[152]) <= ACTIVE for record in long)
    (silent,) = (record for record in collector.records if 27 in record)
    assert (number(silent[1]), number(silent[2]), number(silent[153])) == (210, 3, 1_002_000)


def test_beyond_the_busiest_conversations_all_others_are_told_together(small_plan: Callable[..., Plan]) -> None:
    engine = build_site(small_plan(), lambda _: None)
    (shaper,) = (shaper for (_, way), shaper in engine.shapers.items() if way == "up")
    shaper.count_conversations(True)
    for port in range(1, MOST_TALKS + 51):
        conversation = Conversation(key_of(Parties(17, NEAR, FAR, 5000, port)))
        shaper.offer(Packet(1000 + port, conversation, length=1000 + port), port)
    talks = copy_talks(engine)
    assert len(talks) == MOST_TALKS + 1 and [talk.key for talk in talks if not talk.key] == [b""]
    whole = sum(1000 + port + 14 for port in range(1, MOST_TALKS + 51))
    assert sum(talk.bytes for talk in talks) == whole and sum(talk.packets for talk in talks) == MOST_TALKS + 50
    assert copy_talks(engine) == []
