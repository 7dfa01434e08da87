"""Traffic of one namespace of a rig, on orders: `python -m wily_sluice.rig.promises.traffic_program`.

Orders come on standard input, as lines of JSON; each is answered with a line. An *end* is one side of a conversation:
`[PROTOCOL, ADDRESS, PORT]`, with PROTOCOL `tcp` or `udp`. Of the far side:

- `{"listen": [END, …]}`: answer there from now on

Of hosts:

- `{"call": [[INDEX, LOCAL, PORT, REMOTE, PORT], …]}`: open conversations of UDP, of which the far side hears
- `{"converse": [{…}, …]}`: hold conversations (`converse`), and answer when all have been held

Of both:

- `{"flood": {"send": [[INDEX, GAP, LENGTH], …], "begin": …, "from": …, "until": …}}`: send packets of so many bytes
  each so many nanoseconds over the ends or calls of these indices, count what arrives there meanwhile; answers with
  `[INDEX, packets, wait, wait]` of each: the waits of 95 and of 99 in a hundred

Times are of the real-time clock, which the kernel stamps packets with as they arrive: what waits for this program does
not count.
"""

import json
import os
import select
import socket
import struct
import sys
import time
from contextlib import suppress
from heapq import heapify, heapreplace
from threading import Thread
from typing import Any

from wily_sluice.forecast.prove.flood import percentile
from wily_sluice.rig.promises.wire import HEADERS, icmp_echo

BUFFER = 8 << 20  # bytes
SO_SNDBUFFORCE, SO_RCVBUFFORCE, SO_TIMESTAMPNS = 32, 33, 35  # asm-generic/socket.h
STAMP = struct.Struct("@qq")
SENT = struct.Struct("!cHq")
FLOODS, OPENS, ECHOES = b"f", b"o", b"e"
WISH = b"\x01so many bytes\x00"
PATIENCE = 6.0  # seconds for one conversation
CHUNK = 1 << 16


def family(address: str) -> socket.AddressFamily:
    """Of an address."""
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def udp(local: str, port: int) -> socket.socket:
    """A socket for many packets, which are stamped as they arrive."""
    end = socket.socket(family(local), socket.SOCK_DGRAM)
    end.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    for option in (SO_SNDBUFFORCE, SO_RCVBUFFORCE):
        end.setsockopt(socket.SOL_SOCKET, option, BUFFER)
    end.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    end.bind((local, port))
    end.setblocking(False)
    return end


class Ends:
    """The far side: who listens, and who has called there."""

    def __init__(self) -> None:
        self.datagrams: list[socket.socket] = []
        self.callers: dict[int, tuple[socket.socket, Any]] = {}

    def listen(self, ends: list[list[Any]]) -> None:
        """Answer at these ends; what listened before is closed."""
        for old in self.datagrams:
            old.close()
        self.datagrams, self.callers = [], {}
        for protocol, address, port in ends:
            if protocol == "udp":
                self.datagrams.append(udp(address, port))
                continue
            with suppress(OSError):  # another listens there already, which does as well
                listener = socket.create_server((address, port), family=family(address), backlog=64)
                Thread(target=_accept, args=(listener,), daemon=True).start()

    def attend(self) -> None:
        """Hear who calls, and echo what wants to be."""
        while True:
            ready, _, _ = select.select([sys.stdin, *self.datagrams], (), ())
            for end in self.datagrams:
                if end in ready:
                    with suppress(BlockingIOError, ConnectionRefusedError):
                        data, caller = end.recvfrom(2048)
                        if data[:1] == OPENS:
                            self.callers[int.from_bytes(data[1:3])] = end, caller
                        if data[:1] != FLOODS:
                            end.sendto(data, caller)
            if sys.stdin in ready:
                return


def _accept(listener: socket.socket) -> None:
    while True:
        connection, _ = listener.accept()
        Thread(target=_serve, args=(connection,), daemon=True).start()


def _serve(connection: socket.socket) -> None:
    """Answer whatever comes with a byte, and a wish with as many as are wished for."""
    block = bytes(CHUNK)
    with suppress(OSError), connection:
        while data := connection.recv(CHUNK):
            give = int.from_bytes(data[len(WISH) :]) if data.startswith(WISH) else 1
            while give > 0:
                give -= connection.send(block[:give])


def flood(sending: list[tuple[int, tuple[socket.socket, Any], int, int]], order: dict[str, Any]) -> None:
    """Send, each over its socket to somebody, every so many nanoseconds a packet of so many bytes."""
    begin, until = order["begin"], order["until"]
    due = [(begin + gap * number // len(sending), number) for number, (_, _, gap, _) in enumerate(sending)]
    if not due:
        return
    heapify(due)
    fillings = [bytes(length - HEADERS[end.family] - SENT.size) for _, (end, _), _, length in sending]
    while due[0][0] < until:
        now = time.time_ns()
        if due[0][0] > now:
            time.sleep((due[0][0] - now) / 1e9)
            continue
        at, number = due[0]
        index, (end, to), gap, _ = sending[number]
        with suppress(BlockingIOError, ConnectionRefusedError, InterruptedError):
            end.sendto(SENT.pack(FLOODS, index, now) + fillings[number], to)
        # What this machine is too slow for is not made up for in one burst.
        heapreplace(due, (max(at + gap, now - 20_000_000), number))


def count(ends: list[socket.socket], order: dict[str, Any]) -> list[list[int]]:
    """What arrives of each stream in the time that counts."""
    begin, until = order["from"], order["until"]
    waits: dict[int, list[int]] = {}
    poll = select.epoll()
    by_number = {end.fileno(): end for end in ends}
    for end in ends:
        poll.register(end, select.EPOLLIN)
    while (left := until / 1e9 + 0.05 - time.time()) > 0:
        for number, _ in poll.poll(min(left, 0.2)):
            end = by_number[number]
            with suppress(BlockingIOError, ConnectionRefusedError):
                for _ in range(32):
                    data, about, _, _ = end.recvmsg(64, 64)
                    if data[:1] != FLOODS:
                        continue
                    seconds, nanoseconds = STAMP.unpack_from(about[0][2])
                    arrived = seconds * 1_000_000_000 + nanoseconds
                    if begin <= arrived < until:
                        _, index, sent = SENT.unpack_from(data)
                        waits.setdefault(index, []).append(arrived - sent)
    return [[index, len(one), percentile(one, 95), percentile(one, 99)] for index, one in waits.items()]


def flood_and_count(
    ends: list[socket.socket], to: dict[int, tuple[socket.socket, Any]], order: dict[str, Any]
) -> list[list[int]]:
    """Both at once, in a process for each."""
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        found = json.dumps(count(ends, order)).encode()
        os.write(writer, len(found).to_bytes(4) + found)
        os._exit(0)
    flood([(index, to[index], gap, length) for index, gap, length in order["send"] if index in to], order)
    with os.fdopen(reader, "rb") as pipe:
        size = int.from_bytes(pipe.read(4))
        counted: list[list[int]] = json.loads(pipe.read(size))
    os.close(writer)
    os.waitpid(child, 0)
    return counted


def converse(one: dict[str, Any], held: list[socket.socket]) -> None:
    """Hold one conversation, so that a gate knows it: send what it opens with, and hear the answers.

    `protocol` is a number of IP's; `local`, `port`, `remote`, `remote_port`, `dscp`, `opening` (in hex), `take`: bytes
    to take from the far side; `steady`: seconds for which small packets go both ways.
    """
    kind = {6: socket.SOCK_STREAM, 17: socket.SOCK_DGRAM}.get(one["protocol"], socket.SOCK_RAW)
    end = socket.socket(family(one["local"]), kind, one["protocol"])
    held.append(end)
    end.settimeout(PATIENCE)
    end.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if end.family == socket.AF_INET:
        end.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, one["dscp"] << 2)
    else:
        end.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, one["dscp"] << 2)
    raw = kind == socket.SOCK_RAW
    end.bind((one["local"], 0 if raw else one["port"]))
    end.connect((one["remote"], 0 if raw else one["remote_port"]))
    begun = time.monotonic()
    packets = (
        [icmp_echo(end.family, one["identifier"])]
        if one["protocol"] in (1, 58)
        else [bytes.fromhex(text) for text in one["opening"]]
    )
    for packet in packets:
        end.send(packet)
        time.sleep(0.02)
    if kind != socket.SOCK_RAW or one["protocol"] in (1, 58):
        end.settimeout(1.0)
        end.recv(CHUNK)
    if one["take"]:
        end.send(WISH + one["take"].to_bytes(8))
    taken = 0
    while taken < one["take"] and time.monotonic() - begun < PATIENCE:
        taken += len(end.recv(CHUNK))
    while time.monotonic() - begun < one["steady"]:
        end.send(ECHOES + bytes(120))
        time.sleep(0.02)


def hold(conversations: list[dict[str, Any]]) -> list[str]:
    """Hold all of these at once; why some could not be held."""
    held: list[socket.socket] = []
    troubles = [""] * len(conversations)

    def attempt(index: int, one: dict[str, Any]) -> None:
        try:
            converse(one, held)
        except OSError as error:
            troubles[index] = str(error)

    threads = [Thread(target=attempt, args=pair, daemon=True) for pair in enumerate(conversations)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(PATIENCE + 4)
    _HELD.extend(held)
    return troubles


_HELD: list[socket.socket] = []  # open until the next ones, so that a gate still knows them


def main() -> None:
    """Follow orders until there are no more."""
    far, calls = Ends(), dict[int, tuple[socket.socket, Any]]()
    print(json.dumps({"ready": True}), flush=True)
    while True:
        far.attend()
        line = sys.stdin.readline()
        if not line:
            return
        order = json.loads(line)
        if "listen" in order:
            far.listen(order["listen"])
            answer: Any = len(far.datagrams)
        elif "call" in order:
            for old, _ in calls.values():
                old.close()
            calls = {}
            for index, local, port, remote, remote_port in order["call"]:
                end = udp(local, port)
                end.sendto(OPENS + index.to_bytes(2), (remote, remote_port))
                calls[index] = end, (remote, remote_port)
            answer = len(calls)
        elif "converse" in order:
            for one in _HELD:
                one.close()
            _HELD.clear()
            answer = hold(order["converse"])
        else:
            to = far.callers or calls
            answer = flood_and_count(far.datagrams or [end for end, _ in calls.values()], to, order["flood"])
        print(json.dumps({"answer": answer}), flush=True)


if __name__ == "__main__":
    main()
