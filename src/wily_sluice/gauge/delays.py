"""Sends test packets at an even pace, and calculates round trips, jitter and loss from the answers."""

import select
import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from threading import Event

import numpy as np

from wily_sluice.errors import LiveError
from wily_sluice.gauge.reflector import prepared, receive
from wily_sluice.gauge.stamp import LENGTH, MalformedError, Reflected, Sent, read_reflected, sent_packet
from wily_sluice.units import SECOND, Nanoseconds, Size


@dataclass(frozen=True, slots=True)
class Answered:
    """A packet that came back, and when it came, by the sender's clock."""

    packet: Reflected
    came: Nanoseconds

    @property
    def round_trip(self) -> Nanoseconds:
        """Without the time that the far end took. No clock need be set for it: each difference is of one clock."""
        return (self.came - self.packet.sender_at) - (self.packet.at - self.packet.received)


@dataclass(frozen=True, slots=True)
class Delays:
    """Round trips in ns; `jitter` up and down is the mean difference between one packet and the next (RFC 3393, of
    consecutive packets); `lost` up and down are packets. All None where nothing came back.
    """

    sent: int
    answered: int
    least: float | None
    p50: float | None
    p95: float | None
    p99: float | None
    jitter_up: float | None
    jitter_down: float | None
    lost_up: int | None
    lost_down: int | None


def delays(sent: int, answers: Sequence[Answered]) -> Delays:
    """Of so many packets that were sent. Answers that came twice count once."""
    unique = {answer.packet.sender_sequence: answer for answer in answers}
    answers_in_order = [unique[number] for number in sorted(unique)]
    if not answers_in_order:
        return Delays(sent, 0, None, None, None, None, None, None, None, None)
    trips = np.array([answer.round_trip for answer in answers_in_order], dtype=np.float64)
    p50, p95, p99 = np.percentile(trips, (50, 95, 99)).tolist()
    # The far end numbers what comes to it: what it did not number was lost on the way there.
    arrived = max(answer.packet.sequence for answer in answers_in_order) + 1
    return Delays(
        sent,
        len(answers_in_order),
        float(trips.min()),
        p50,
        p95,
        p99,
        _jitter([answer.packet.received - answer.packet.sender_at for answer in answers_in_order]),
        _jitter([answer.came - answer.packet.at for answer in answers_in_order]),
        max(0, sent - max(arrived, len(answers_in_order))),
        max(0, max(arrived, len(answers_in_order)) - len(answers_in_order)),
    )


def delays_within(answers: Sequence[Answered]) -> Delays | None:
    """Of packets that were sent one after another, in the midst of others; None of none."""
    if not answers:
        return None
    first = min(answer.packet.sender_sequence for answer in answers)
    came = min(answer.packet.sequence for answer in answers)
    within = [
        replace(
            answer,
            packet=answer.packet._replace(
                sender_sequence=answer.packet.sender_sequence - first, sequence=max(0, answer.packet.sequence - came)
            ),
        )
        for answer in answers
    ]
    return delays(max(answer.packet.sender_sequence for answer in within) + 1, within)


def _jitter(ways: Sequence[Nanoseconds]) -> float | None:
    """The mean difference of consecutive delays one way: by how much two clocks differ does not matter."""
    if len(ways) < 2:
        return None
    return float(np.abs(np.diff(np.array(ways, dtype=np.float64))).mean())


PATIENCE: Nanoseconds = 2 * SECOND  # for answers, after the last packet


def probe(
    host: str,
    port: int,
    key: bytes,
    lasts: Nanoseconds,
    pace: int,
    length: Size = LENGTH,
    progress: Callable[[float], None] = lambda _: None,
    over: Event | None = None,
    into: list[Answered] | None = None,
) -> tuple[int, list[Answered]]:
    """Send so many packets a second for a time; how many were sent, and those that came back. LiveError when the host
    is not known or cannot be reached at all. An interrupt ends it early, with what there is by then; so does `over`.
    What came back is put into a list as it comes, if one is given.
    """
    try:
        family, _, _, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
    except OSError as error:
        raise LiveError(f"{host} cannot be found: {error.strerror}") from None
    gap = SECOND // pace
    sent = 0
    answers: list[Answered] = into if into is not None else []
    with prepared(family) as end:
        try:
            end.connect(address)
            begin = time.monotonic_ns()
            while (now := time.monotonic_ns()) < begin + lasts + PATIENCE and not (over is not None and over.is_set()):
                due = begin + sent * gap
                if sent * gap < lasts and now >= due:
                    end.send(sent_packet(Sent(sent, time.time_ns()), key, length))
                    sent += 1
                    progress(min(1.0, (now - begin) / lasts))
                    continue
                if sent * gap >= lasts and len(answers) >= sent:
                    break
                wait = (due - now if sent * gap < lasts else begin + lasts + PATIENCE - now) / SECOND
                if select.select([end], [], [], max(0.0, wait))[0]:
                    answered = _take(end, key)
                    answers.extend([answered] if answered is not None else [])
        except KeyboardInterrupt:
            pass
        except OSError as error:
            raise LiveError(f"{host} cannot be reached: {error.strerror}") from None
    return sent, answers


def _take(end: socket.socket, key: bytes) -> Answered | None:
    try:
        data, _, at, _, _ = receive(end)
        return Answered(read_reflected(data, key), at)
    except (MalformedError, ConnectionError):
        return None  # from a stranger; or nothing listens there yet
