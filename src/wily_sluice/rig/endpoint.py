"""Traffic for a rig: a far side that serves, and hosts that download, upload and call, over the kernel's own sockets.

    python -m wily_sluice.rig.endpoint serve ADDRESS…
    python -m wily_sluice.rig.endpoint load down|up --local A --remote B --flows N --seconds S
    python -m wily_sluice.rig.endpoint flood down|up --local A --remote B --rate R --seconds S
    python -m wily_sluice.rig.endpoint call --local A --remote B --seconds S

`load` opens TCP connections and prints the bytes that each carried; `flood` sends UDP at a rate, whatever arrives, and
prints what arrived. Both take several local addresses, with commas between, which all do the same. `call` sends 50
packets a second of 200 bytes, which the far side sends back, and prints each one's delay up and down; with `--one-way`
the far side keeps the delays until the end. Results are one JSON object. Delays compare two readings of one machine's
monotonic clock, so they need no clock to be set.
"""

import argparse
import contextlib
import json
import os
import select
import selectors
import socket
import struct
import sys
import time
from collections.abc import Callable, Iterator
from fcntl import ioctl
from threading import Thread
from typing import Any, NoReturn

from wily_sluice.gate.kernel.process import run_before_others

PORT = 7000
FLOOD_PORT = 7001
FLOOD_PAYLOAD = 1452  # bytes: over IPv6, a packet of 1500
CHUNK = 1 << 16
SIOCOUTQ = 0x5411  # linux/sockios.h: bytes sent and not acknowledged
CALL_PAYLOAD = 172  # bytes: with the headers of UDP and IPv4, a packet of 200
CALL_PERIOD = 0.020  # seconds
CONNECTED_WITHIN = 20.0  # seconds
COOLDOWN = 1.0  # seconds that a load lasts beyond what counts, so that others that began later are measured beside it
ONE_WAY = 1 << 31  # in the number of a packet that is not sent back
MOST_TOLD = 60  # delays in one packet
_STAMPS = struct.Struct("!Iqq")  # number, sent at, far side's time; ns


def _family(address: str) -> socket.AddressFamily:
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def _fill_buffers(connection: socket.socket) -> None:
    """Set the kernel's TCP to the usual defaults of hosts (RFC 9438), independent of this machine's."""
    with contextlib.suppress(OSError):
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, b"cubic")


def serve(addresses: list[str]) -> None:
    """Answer TCP (`d`: send until told to stop; `u`: swallow) and UDP (send back, with the time)."""
    for address in addresses:
        listener = socket.create_server((address, PORT), family=_family(address), backlog=128)
        _fill_buffers(listener)
        Thread(target=_accept, args=(listener,), daemon=True).start()
        echo = socket.socket(_family(address), socket.SOCK_DGRAM)
        echo.bind((address, PORT))
        sink = socket.socket(_family(address), socket.SOCK_DGRAM)
        sink.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
        sink.bind((address, FLOOD_PORT))
        if os.fork() == 0:
            _take_floods(sink)
        # A process of its own: beside threads that move bytes it would wait for its turn at the interpreter.
        if os.fork() == 0:
            _echo(echo)
    print("ready", flush=True)
    while True:
        time.sleep(3600)


def _accept(listener: socket.socket) -> None:
    while True:
        connection, _ = listener.accept()
        Thread(target=_serve_one, args=(connection,), daemon=True).start()


def _serve_one(connection: socket.socket) -> None:
    try:
        with connection:
            if connection.recv(1) == b"d":
                block = bytes(CHUNK)
                while True:
                    connection.sendall(block)
            buffer = bytearray(CHUNK)
            while connection.recv_into(buffer):
                continue
    except OSError:
        return


def _echo(echo: socket.socket) -> NoReturn:
    run_before_others()
    kept: dict[Any, list[int]] = {}
    while True:
        data, sender = echo.recvfrom(2048)
        now = time.monotonic_ns()
        if data[:1] == b"?":
            first = int(data[1:])
            told = kept.get(sender, [])[first : first + MOST_TOLD]
            echo.sendto(struct.pack(f"!I{len(told)}q", first, *told), sender)
            continue
        number, sent, _ = _STAMPS.unpack_from(data)
        if number & ONE_WAY:
            kept.setdefault(sender, []).append(now - sent)
        else:
            echo.sendto(_STAMPS.pack(number, sent, now) + data[_STAMPS.size :], sender)


def _take_floods(sink: socket.socket) -> NoReturn:
    """Count each sender's traffic, and report it on request; or send to it at the requested rate and duration."""
    taken: dict[Any, int] = {}
    while True:
        data, sender = sink.recvfrom(2048)
        if data[:1] == b"?":
            sink.sendto(b"%d %d" % (taken.get(sender, 0), time.monotonic_ns()), sender)
        elif data[:1] == b"d":
            rate, seconds = data[1:].split()
            asking = [sender, *_others_who_ask(sink)]
            if os.fork() == 0:
                _send_floods([sink] * len(asking), asking, int(rate), float(seconds))
                os._exit(0)
        else:
            taken[sender] = taken.get(sender, 0) + len(data)


def _others_who_ask(sink: socket.socket) -> Iterator[Any]:
    """Those who ask for the same in the next moment; one process can then send to all."""
    while select.select([sink], [], [], 0.1)[0]:
        data, sender = sink.recvfrom(2048)
        if data[:1] == b"d":
            yield sender


def _send_floods(lines: list[socket.socket], to: list[Any], rate: int, seconds: float) -> None:
    """Send from each socket at `rate` bit/s of payload."""
    filling = bytes(FLOOD_PAYLOAD)
    gap = FLOOD_PAYLOAD * 8 / rate
    begun = time.monotonic()
    number = 0
    while (due := begun + number * gap) < begun + seconds:
        time.sleep(max(0.0, due - time.monotonic()))
        for line, receiver in zip(lines, to, strict=True):
            with contextlib.suppress(BlockingIOError, ConnectionRefusedError):
                line.sendto(filling, receiver)
        number += 1


def flood(direction: str, local: str, remote: str, rate: int, seconds: float, warmup: float) -> dict[str, Any]:
    """Send UDP at `rate` bit/s for each local address; what arrives in the first `warmup` seconds does not count."""
    lines = []
    for address in local.split(","):
        line = socket.socket(_family(remote), socket.SOCK_DGRAM)
        line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
        line.bind((address, 0))
        line.settimeout(2.0)
        lines.append(line)
    far = (remote, FLOOD_PORT)
    if direction == "down":
        for line in lines:
            line.sendto(b"d%d %f" % (rate, seconds + warmup + COOLDOWN), far)
        carried = _receive_floods(lines, seconds, warmup)
    else:
        sender = Thread(target=_send_floods, args=(lines, [far] * len(lines), rate, seconds + warmup + COOLDOWN))
        sender.start()
        time.sleep(warmup)
        asked = time.monotonic()
        early = _ask(lines, far)
        time.sleep(max(0.0, asked + seconds - time.monotonic()))
        late = _ask(lines, far)
        sender.join()
        # A question waits as long as the flood that it is in, so what counts is when the far side read it.
        carried = [
            round((b[0] - a[0]) * seconds * 1e9 / (b[1] - a[1])) if b[1] > a[1] else 0
            for a, b in zip(early, late, strict=True)
        ]
    return {"direction": direction, "seconds": seconds, "bytes": carried, "goodput": sum(carried) * 8 / seconds}


def _ask(lines: list[socket.socket], far: tuple[str, int]) -> list[tuple[int, int]]:
    """How much the far side has taken from each, and when. A question may be lost in the flood, and is repeated."""
    answers = [(0, 0)] * len(lines)
    waiting = dict(enumerate(lines))
    for _ in range(10):
        for line in waiting.values():
            line.sendto(b"?", far)
        patience = time.monotonic() + 0.6
        while waiting and (left := patience - time.monotonic()) > 0:
            readable, _, _ = select.select(list(waiting.values()), (), (), left)
            for number in [number for number, line in waiting.items() if line in readable]:
                taken, when = waiting.pop(number).recv(64).split()
                answers[number] = int(taken), int(when)
    return answers


def _receive_floods(lines: list[socket.socket], seconds: float, warmup: float) -> list[int]:
    selector = selectors.DefaultSelector()
    for index, line in enumerate(lines):
        line.setblocking(False)
        selector.register(line, selectors.EVENT_READ, index)
    carried = [0] * len(lines)
    counting = time.monotonic() + warmup
    while (now := time.monotonic()) < counting + seconds:
        for key, _ in selector.select(0.05):
            with contextlib.suppress(BlockingIOError):
                size = len(lines[key.data].recv(2048))
                carried[key.data] += size if now >= counting else 0
    return carried


def _connected(addresses: list[str], remote: str) -> list[socket.socket]:
    """A connection from each address. All are opened at once, so that none has a start before the others."""
    connections = []
    selector = selectors.DefaultSelector()
    for address in addresses:
        connection = socket.socket(_family(remote))
        connection.bind((address, 0))
        connection.setblocking(False)
        connection.connect_ex((remote, PORT))
        selector.register(connection, selectors.EVENT_WRITE)
        connections.append(connection)
    until = time.monotonic() + CONNECTED_WITHIN
    while selector.get_map():
        for key, _ in selector.select(max(0.0, until - time.monotonic())):
            assert isinstance(key.fileobj, socket.socket)
            if error := key.fileobj.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):
                raise OSError(error, os.strerror(error))
            selector.unregister(key.fileobj)
        if time.monotonic() >= until and selector.get_map():
            raise TimeoutError(f"{remote} does not answer")
    return connections


def load(direction: str, local: str, remote: str, flows: int, seconds: float, warmup: float) -> dict[str, Any]:
    """Move bytes over `flows` connections of each local address; those of the first `warmup` seconds do not count."""
    connections = _connected(local.split(",") * flows, remote)
    for connection in connections:
        _fill_buffers(connection)
        connection.send(direction[:1].encode())
    selector = selectors.DefaultSelector()
    for index, connection in enumerate(connections):
        selector.register(connection, selectors.EVENT_READ if direction == "down" else selectors.EVENT_WRITE, index)
    moved = [0] * len(connections)
    block, buffer = bytes(CHUNK), bytearray(CHUNK)
    counts = []  # when the measurement began and ended, and what had arrived by then
    until = time.monotonic()
    for span in (warmup, seconds, COOLDOWN):
        until += span
        while time.monotonic() < until:
            for key, _ in selector.select(0.05):
                try:
                    if direction == "down":
                        moved[key.data] += connections[key.data].recv_into(buffer)
                    else:
                        moved[key.data] += connections[key.data].send(block)
                except BlockingIOError:
                    continue
        counts.append((time.monotonic(), _acknowledged(connections, moved, direction)))
    (counting, before), (counted, after), _ = counts
    lasted = counted - counting
    for connection in connections:
        # Resets rather than drains: what is still on its way is of no use.
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        connection.close()
    carried = [late - early for early, late in zip(before, after, strict=True)]
    return {"direction": direction, "seconds": lasted, "bytes": carried, "goodput": sum(carried) * 8 / lasted}


def _acknowledged(connections: list[socket.socket], moved: list[int], direction: str) -> list[int]:
    """Bytes that arrived: those read here, or those handed to the kernel that no longer await acknowledgement."""
    if direction == "down":
        return list(moved)
    waiting = (struct.unpack("i", ioctl(connection, SIOCOUTQ, bytes(4)))[0] for connection in connections)
    return [sent - unacknowledged for sent, unacknowledged in zip(moved, waiting, strict=True)]


def call(local: str, remote: str, seconds: float, dscp: int, port: int, one_way: bool) -> dict[str, Any]:
    """Call, and report each packet's delay up and down, how many were lost, and the longest silence; times in ns."""
    line = socket.socket(_family(remote), socket.SOCK_DGRAM)
    line.bind((local, port))
    if _family(remote) == socket.AF_INET:
        line.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, dscp << 2)
    line.connect((remote, PORT))
    line.settimeout(0.5)
    up: list[int] = []
    down: list[int] = []
    run_before_others()  # a call's delay is to be the line's, not this program's

    silent, heard = 0, time.monotonic_ns()
    calling = True

    def listen() -> None:
        nonlocal silent, heard
        for data in _until_silent(line, lambda: calling):
            now = time.monotonic_ns()
            _, sent, turned = _STAMPS.unpack_from(data)
            up.append(turned - sent)
            down.append(now - turned)
            silent, heard = max(silent, now - heard), now

    listener = Thread(target=listen)
    if not one_way:
        listener.start()
    filling = bytes(CALL_PAYLOAD - _STAMPS.size)
    count = int(seconds / CALL_PERIOD)
    begun = time.monotonic()
    for number in range(count):
        time.sleep(max(0.0, begun + number * CALL_PERIOD - time.monotonic()))
        with contextlib.suppress(OSError):  # of an earlier packet that did not get there
            line.send(_STAMPS.pack(number | ONE_WAY * one_way, time.monotonic_ns(), 0) + filling)
    calling, over = False, time.monotonic_ns()
    if one_way:
        up = _kept(line)
        return {"sent": count, "lost": count - len(up), "up": up, "down": [], "silent": 0}
    listener.join()
    silent = max(silent, over - heard)
    return {"sent": count, "lost": count - len(up), "up": up, "down": down, "silent": silent}


def _kept(line: socket.socket) -> list[int]:
    """The delays that the far side has kept to itself. A question may be lost, and is repeated."""
    delays: list[int] = []
    for _ in range(10_000):
        line.send(b"?%d" % len(delays))
        with contextlib.suppress(TimeoutError):
            data = line.recv(2048)
            first, *told = struct.unpack(f"!I{(len(data) - 4) // 8}q", data)
            if first == len(delays):
                if not told:
                    return delays
                delays += told
    raise TimeoutError("the far side does not answer")


def _until_silent(line: socket.socket, calling: Callable[[], bool]) -> Iterator[bytes]:
    """What arrives, until the call is over and nothing has come for a while; a way that is cut is waited for."""
    quiet = 0
    while quiet < 3:
        try:
            data = line.recv(2048)
        except TimeoutError:
            quiet += not calling()
        except OSError:
            time.sleep(0.01)
        else:
            quiet = 0
            yield data


def main(arguments: list[str]) -> None:
    """Run one of the four."""
    parser = argparse.ArgumentParser(prog="endpoint")
    roles = parser.add_subparsers(dest="role", required=True)
    server = roles.add_parser("serve")
    server.add_argument("addresses", nargs="+")
    for role in ("load", "flood", "call"):
        client = roles.add_parser(role)
        if role != "call":
            client.add_argument("direction", choices=["down", "up"])
            client.add_argument("--warmup", type=float, default=0.0)
            if role == "load":
                client.add_argument("--flows", type=int, default=1)
            else:
                client.add_argument("--rate", type=int, required=True)
        else:
            client.add_argument("--dscp", type=int, default=0)
            client.add_argument("--port", type=int, default=0)
            client.add_argument("--one-way", action="store_true")
        client.add_argument("--local", required=True)
        client.add_argument("--remote", required=True)
        client.add_argument("--seconds", type=float, default=10.0)
    options = vars(parser.parse_args(arguments))
    role = options.pop("role")
    if role == "serve":
        serve(options["addresses"])
    else:
        does: dict[str, Callable[..., dict[str, Any]]] = {"load": load, "flood": flood, "call": call}
        json.dump(does[role](**options), sys.stdout)


if __name__ == "__main__":
    main(sys.argv[1:])
