"""Paced floods of UDP, and their arrivals: the same at both ends of a line.

A packet contains its stream and its send time. The kernel stamps it on arrival, so that the delay of the counting
program does not matter. Times are of the real-time clock.
"""

import json
import os
import select
import socket
import struct
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from heapq import heapify, heapreplace
from typing import Any, NamedTuple

BUFFER = 8 << 20  # bytes
SO_SNDBUFFORCE, SO_RCVBUFFORCE, SO_TIMESTAMPNS = 32, 33, 35  # asm-generic/socket.h
STAMP = struct.Struct("@qq")
SENT = struct.Struct("!cHq")
FLOODS, OPENS, ECHOES = b"f", b"o", b"e"
HEADERS = {socket.AF_INET: 28, socket.AF_INET6: 48}  # bytes of IP and UDP
BEHIND = 20_000_000  # ns: what this machine is too slow for is not made up for in one burst
To = Mapping[int, tuple[socket.socket, Any]]  # over which socket, and to whom, by the number of a stream


class Sending(NamedTuple):
    """A stream: its number, the nanoseconds from packet to packet, and the bytes of an IP packet."""

    stream: int
    gap: int
    length: int


class Span(NamedTuple):
    """When to send, and when to count: by the kernel's stamps, unless the kernel may have held packets back since."""

    begin: int
    counted: int
    until: int
    stamped: bool = True


class Arrived(NamedTuple):
    """The arrivals of a stream: packets, and the 95th and 99th percentiles of delay, in ns."""

    stream: int
    packets: int
    p95: int
    p99: int


def family(address: str) -> socket.AddressFamily:
    """Of an address."""
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def udp(local: str, port: int) -> socket.socket:
    """A socket for many packets, which are stamped as they arrive. OSError."""
    end = socket.socket(family(local), socket.SOCK_DGRAM)
    try:
        end.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        for forced, asked in ((SO_SNDBUFFORCE, socket.SO_SNDBUF), (SO_RCVBUFFORCE, socket.SO_RCVBUF)):
            try:
                end.setsockopt(socket.SOL_SOCKET, forced, BUFFER)
            except PermissionError:
                end.setsockopt(socket.SOL_SOCKET, asked, BUFFER)
        end.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
        end.bind((local, port))
        end.setblocking(False)
    except OSError:
        end.close()
        raise
    return end


def flood(sending: Sequence[Sending], to: To, span: Span) -> None:
    """Send until it is time to stop."""
    streams = [wanted for wanted in sending if wanted.stream in to]
    if not streams:
        return
    due = [(span.begin + stream.gap * number // len(streams), number) for number, stream in enumerate(streams)]
    heapify(due)
    fillings = [bytes(max(0, stream.length - HEADERS[to[stream.stream][0].family] - SENT.size)) for stream in streams]
    while due[0][0] < span.until:
        now = time.time_ns()
        if due[0][0] > now:
            time.sleep((due[0][0] - now) / 1e9)
            continue
        at, number = due[0]
        stream, gap, _ = streams[number]
        end, whom = to[stream]
        with suppress(BlockingIOError, ConnectionRefusedError, InterruptedError):
            end.sendto(SENT.pack(FLOODS, stream, now) + fillings[number], whom)
        heapreplace(due, (max(at + gap, now - BEHIND), number))


def count(ends: Sequence[socket.socket], span: Span) -> list[Arrived]:
    """What arrives of each stream in the time that counts."""
    waits: dict[int, list[int]] = {}
    poll = select.epoll()
    by_number = {end.fileno(): end for end in ends}
    for end in ends:
        poll.register(end, select.EPOLLIN)
    while (left := span.until / 1e9 + 0.05 - time.time()) > 0:
        for number, _ in poll.poll(min(left, 0.2)):
            end = by_number[number]
            with suppress(BlockingIOError, ConnectionRefusedError):
                for _ in range(32):
                    data, about, _, _ = end.recvmsg(64, 64)
                    if data[:1] != FLOODS or len(data) < SENT.size:
                        continue
                    seconds, nanoseconds = STAMP.unpack_from(about[0][2])
                    arrived = seconds * 1_000_000_000 + nanoseconds if span.stamped else time.time_ns()
                    if span.counted <= arrived < span.until:
                        _, stream, sent = SENT.unpack_from(data)
                        waits.setdefault(stream, []).append(arrived - sent)
    return [
        Arrived(stream, len(delays), _percentile(delays, 95), _percentile(delays, 99))
        for stream, delays in waits.items()
    ]


def _percentile(waits: list[int], percent: int) -> int:
    return sorted(waits)[(len(waits) - 1) * percent // 100]


def flood_and_count(ends: Sequence[socket.socket], sending: Sequence[Sending], to: To, span: Span) -> list[Arrived]:
    """Both at once, in a process for each."""
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            counted = json.dumps(count(ends, span)).encode()
            os.write(writer, len(counted).to_bytes(4) + counted)
        finally:
            os._exit(0)
    os.close(writer)
    try:
        flood(sending, to, span)
        with os.fdopen(reader, "rb") as pipe:
            size = int.from_bytes(pipe.read(4))
            return [Arrived(*load) for load in json.loads(pipe.read(size) or b"[]")]
    finally:
        os.waitpid(child, 0)
