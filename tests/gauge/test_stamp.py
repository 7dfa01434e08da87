"""Test packets against hand-made ones, the reflector against strangers, and both over a socket."""

import hmac
import random
import socket
from collections.abc import Iterator
from contextlib import suppress
from hashlib import sha256
from threading import Thread

import pytest

from wily_sluice.gauge.delays import Answered, delays, probe
from wily_sluice.gauge.reflector import (
    ALL_PACKETS_A_SECOND,
    BURST,
    MOST_SESSIONS,
    PACKETS_A_SECOND,
    Reflector,
    prepared,
    serve,
)
from wily_sluice.gauge.stamp import (
    LENGTH,
    MalformedError,
    Reflected,
    Sent,
    from_ntp,
    ntp,
    read_reflected,
    read_sent,
    reflected_packet,
    sent_packet,
)
from wily_sluice.units import MILLISECOND, SECOND

KEY = b"a key of the two machines"
# 2026-11-26 00:00:00.5 UTC: 4,004,640,000 seconds after 1900, 0xeeb1f500, and half of 2^32.
AT = 1_795_651_200 * SECOND + SECOND // 2
STAMP = "eeb1f500" + "80000000"
SENDER = ("192.0.2.9", 40_000)


def signed(body: str) -> bytes:
    data = bytes.fromhex(body)
    assert len(data) == 96
    return data + hmac.new(KEY, data, sha256).digest()[:16]


# RFC 8762 §4.2.2, figure 4: number, 12 bytes of nothing, timestamp, error estimate, 70 bytes of nothing.
SENT = signed("00000007" + "00" * 12 + STAMP + "0c01" + "00" * 70)
# §4.3.2, figure 7: number, 12, timestamp, error estimate, 6, received, 8, the sender's number, 12, its timestamp and
# error estimate, 6, its TTL, 15.
REFLECTED = signed(
    "00000003" + "00" * 12 + "eeb1f501" + "00000000" + "0c01" + "00" * 6 + "eeb1f500" + "c0000000" + "00" * 8
    + "00000007" + "00" * 12 + STAMP + "0c01" + "00" * 6 + "40" + "00" * 15
)  # fmt: skip


def test_packets_are_those_of_the_standard_byte_by_byte() -> None:
    assert ntp(AT) == int(STAMP, 16) and from_ntp(int(STAMP, 16)) == AT
    assert sent_packet(Sent(7, AT), KEY) == SENT
    assert read_sent(SENT, KEY) == Sent(7, AT)
    answer = reflected_packet(SENT, KEY, 3, AT + SECOND // 4, AT + SECOND // 2, 64)
    assert answer == REFLECTED
    assert read_reflected(answer, KEY) == Reflected(3, AT + SECOND // 2, AT + SECOND // 4, 7, AT, 64)


def test_an_answer_is_as_long_as_what_came_and_carries_its_padding() -> None:
    long = sent_packet(Sent(1, AT), KEY, 500)
    assert len(long) == 500
    assert len(reflected_packet(long, KEY, 0, AT, AT, 64)) == 500
    for stamp in (0, 1, 2**63, int(STAMP, 16) + 12345):
        assert abs(ntp(from_ntp(stamp)) - stamp) <= 3  # a nanosecond is 4.3 of these


@pytest.mark.parametrize("packets", [20_000, pytest.param(1_000_000, marks=pytest.mark.slow)])
def test_a_stranger_gets_no_answer_whatever_it_sends(packets: int) -> None:
    reflector, drawn = Reflector(KEY), random.Random(8762)
    for number in range(packets):
        data = bytearray(SENT) if number % 2 else bytearray(drawn.randbytes(drawn.randrange(200)))
        if number % 2:
            data[drawn.randrange(LENGTH)] ^= 1 << drawn.randrange(8)
        assert reflector.answer(bytes(data), SENDER, AT, lambda: AT, 64) is None
    assert reflector.answer(sent_packet(Sent(7, AT), b"another key, as long"), SENDER, AT, lambda: AT, 64) is None
    assert (reflector.answered, reflector.refused) == (0, packets + 1)
    assert not reflector._sessions  # strangers leave nothing behind
    with pytest.raises(MalformedError, match="112 to 9000"):
        read_sent(SENT[:-1], KEY)


def packets(count: int, first: int = 0) -> list[bytes]:
    return [sent_packet(Sent(number, AT + number), KEY) for number in range(first, first + count)]


def test_a_site_is_answered_at_a_rate_and_only_so_many_are_remembered() -> None:
    reflector = Reflector(KEY)
    answers = [
        reflector.answer(packet, ("192.0.2.9", 1 + number % 500), AT + number * SECOND // 10_000, lambda: AT, 64)
        for number, packet in enumerate(packets(20_000))
    ]
    assert sum(answer is not None for answer in answers) == pytest.approx(BURST + 2 * PACKETS_A_SECOND, abs=5)
    assert reflector.answer(packets(1, 20_000)[0], ("192.0.2.10", 1), AT + 2 * SECOND, lambda: AT, 64) is not None
    for number, packet in enumerate(packets(1000, 30_000)):
        reflector.answer(packet, (f"2001:db8:{number:x}::1", 862), AT, lambda: AT, 64)
    assert len(reflector._sessions) == len(reflector._by_site) == MOST_SESSIONS


def test_all_together_are_answered_at_a_rate() -> None:
    reflector = Reflector(KEY)
    answers = [
        reflector.answer(packet, (f"192.0.2.{number % 100}", 1), AT + number * SECOND // 50_000, lambda: AT, 64)
        for number, packet in enumerate(packets(50_000))
    ]
    assert sum(answer is not None for answer in answers) == pytest.approx(1.1 * ALL_PACKETS_A_SECOND, rel=0.01)


def test_a_packet_that_was_captured_gets_no_second_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    """Sent again a day later from 500 ports; one like it in all but a second of its time is answered."""
    monkeypatch.setattr("wily_sluice.gauge.reflector.REMEMBERED", 1000)
    reflector, day = Reflector(KEY), 86_400 * SECOND
    assert reflector.answer(SENT, SENDER, AT, lambda: AT, 64) is not None
    for packet in packets(999):
        reflector.answer(packet, ("192.0.2.77", 1), AT, lambda: AT, 64)
    replayed = [reflector.answer(SENT, ("203.0.113.1", port), AT + day, lambda: AT + day, 64) for port in range(500)]
    assert replayed == [None] * 500 and reflector.repeated == 500
    near = sent_packet(Sent(7, AT + SECOND), KEY)
    assert reflector.answer(near, SENDER, AT + day, lambda: AT + day, 64) is not None


def test_round_trips_jitter_and_loss_are_told_for_each_way() -> None:
    """Ten are sent, 10 ms apart; the third is lost on the way, the fifth on the way back. Clocks differ by an hour."""
    hour, answers, number = 3600 * SECOND, [], 0
    for sequence in range(10):
        begin = AT + sequence * 10 * MILLISECOND
        if sequence == 2:
            continue
        up = (5 + sequence % 2) * MILLISECOND
        received = begin + up + hour
        packet = Reflected(number, received + MILLISECOND, received, sequence, begin, 64)
        number += 1
        if sequence != 4:
            answers.append(Answered(packet, begin + up + MILLISECOND + 7 * MILLISECOND))
    found = delays(10, answers)
    assert (found.answered, found.lost_up, found.lost_down) == (8, 1, 1)
    assert (found.least, found.p99) == (12 * MILLISECOND, pytest.approx(13 * MILLISECOND, rel=0.01))
    # Of 0 1 3 5 6 7 8 9: from odd to odd nothing changes, else 1 ms; that is 5 of 7.
    assert found.jitter_up == pytest.approx(5 / 7 * MILLISECOND)
    assert found.jitter_down == 0
    assert delays(5, []).p50 is None


@pytest.fixture
def port() -> Iterator[int]:
    one = prepared(socket.AF_INET)
    one.bind(("127.0.0.1", 0))

    def answer() -> None:
        with suppress(OSError):
            serve(one, Reflector(KEY))

    thread = Thread(target=answer, daemon=True)
    thread.start()
    yield one.getsockname()[1]
    one.close()


def test_a_machine_measures_the_way_to_another(port: int) -> None:
    sent, answers = probe("127.0.0.1", port, KEY, SECOND // 2, 100)
    found = delays(sent, answers)
    assert sent == 50 and found.answered == 50
    assert found.p50 is not None and 0 < found.p50 < 5 * MILLISECOND
    assert (found.lost_up, found.lost_down) == (0, 0)
    assert probe("127.0.0.1", port, b"another key, as long", SECOND // 10, 50)[1] == []
