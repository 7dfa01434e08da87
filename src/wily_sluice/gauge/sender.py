"""Sends test packets at an even pace, and collects the answers."""

import select
import socket
import time
from collections.abc import Callable
from threading import Event

from wily_sluice.errors import LiveError
from wily_sluice.gauge.delays import Answered
from wily_sluice.gauge.reflector import prepared, receive
from wily_sluice.gauge.stamp import LENGTH, MalformedError, Sent, read_reflected, sent_packet
from wily_sluice.units import SECOND, Nanoseconds, Size

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
    with prepared(family) as one:
        try:
            one.connect(address)
            begin = time.monotonic_ns()
            while (now := time.monotonic_ns()) < begin + lasts + PATIENCE and not (over is not None and over.is_set()):
                due = begin + sent * gap
                if sent * gap < lasts and now >= due:
                    one.send(sent_packet(Sent(sent, time.time_ns()), key, length))
                    sent += 1
                    progress(min(1.0, (now - begin) / lasts))
                    continue
                if sent * gap >= lasts and len(answers) >= sent:
                    break
                wait = (due - now if sent * gap < lasts else begin + lasts + PATIENCE - now) / SECOND
                if select.select([one], [], [], max(0.0, wait))[0]:
                    answered = _take(one, key)
                    answers.extend([answered] if answered is not None else [])
        except KeyboardInterrupt:
            pass
        except OSError as error:
            raise LiveError(f"{host} cannot be reached: {error.strerror}") from None
    return sent, answers


def _take(one: socket.socket, key: bytes) -> Answered | None:
    try:
        data, _, at, _, _ = receive(one)
        return Answered(read_reflected(data, key), at)
    except (MalformedError, ConnectionError):
        return None  # from a stranger; or nothing listens there yet
