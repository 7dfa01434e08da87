"""The program that sends and receives the traffic of tests.

Traffic of one namespace of a rig, on orders: `python -m wily_sluice.rig.promises.traffic_program`.

Orders arrive on standard input, as lines of JSON; each is answered with a line. An *end* is one side of a conversation:
`[PROTOCOL, ADDRESS, PORT]`, with PROTOCOL `tcp` or `udp`. For the far end:

- `{"listen": [END, …], "secret": …, "entrance": [ADDRESS, PORT]}`: answer there from now on; if there is a secret, in
  hex, only addresses that have entered, and send floods only to those of them that show a token of their stream
  (`Entrance`); answers with the ends that could be opened

For hosts:

- `{"call": [[INDEX, LOCAL, PORT, REMOTE, PORT, TOKEN], …]}`: open UDP conversations with the far end; it may require a
  token, in hex
- `{"enter": [[LOCAL, REMOTE, PORT], …], "secret": …}`: enter there from these addresses; answers whether each could
- `{"converse": [{…}, …]}`: hold conversations (`converse`), and answer when they are over

For both:

- `{"flood": {"send": [[INDEX, GAP, LENGTH], …], "begin": …, "from": …, "until": …}}`: send packets of this length at
  intervals of GAP nanoseconds over these ends or calls, and count arrivals there; answers with `[INDEX, packets, delay,
  delay]` for each: the 95th and 99th percentiles of delay

Times are those of the real-time clock, which the kernel stamps packets with on arrival, so delays of this program do
not count.
"""

import hmac
import json
import os
import select
import socket
import ssl
import struct
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from threading import BoundedSemaphore, Thread
from typing import Any, Final

from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.engine.classify.service import Known
from wily_sluice.gate.kernel.echo import Nonce, request
from wily_sluice.gauge.floods import ECHOES, FLOODS, OPENS, Sending, Span, family, flood_and_count, udp

PACKETS = 12  # of RTP: more than it takes to be certain


def client_hello(name: str) -> bytes:
    """A ClientHello that asks for a server of this name (RFC 8446 §4.1.2, RFC 6066 §3)."""
    context = ssl.create_default_context()
    taken, out = ssl.MemoryBIO(), ssl.MemoryBIO()
    connection = context.wrap_bio(taken, out, server_hostname=name)
    try:
        connection.do_handshake()
    except ssl.SSLWantReadError:
        return out.read()
    raise AssertionError("a handshake that needs no answer")


def _rtp() -> list[bytes]:
    """20 ms of sound in each (RFC 3550 §5.1), of payload type 0."""
    heads = (struct.pack(">BBHII", 0x80, 0, 1000 + n, 160 * n, 0x53616C74) for n in range(PACKETS))
    return [head + bytes(160) for head in heads]


_SIP = (
    b"OPTIONS sip:desk@saltmarsh.example SIP/2.0\r\nVia: SIP/2.0/UDP 192.0.2.1;branch=z9hG4bK1\r\n"
    b"From: <sip:a@saltmarsh.example>;tag=1\r\nTo: <sip:desk@saltmarsh.example>\r\nCall-ID: 1@192.0.2.1\r\n"
    b"CSeq: 1 OPTIONS\r\nContent-Length: 0\r\n\r\n"
)
_STUN = bytes.fromhex("00010000 2112a442") + bytes(range(12))
OPENINGS: Final[dict[tuple[str, int], Callable[[], list[bytes]]]] = {
    ("tls", TCP): lambda: [client_hello("saltmarsh.example")],
    ("http", TCP): lambda: [b"GET / HTTP/1.1\r\nHost: saltmarsh.example\r\n\r\n"],
    ("sip", TCP): lambda: [_SIP],
    ("sip", UDP): lambda: [_SIP],
    ("rtp", UDP): _rtp,
    ("stun", UDP): lambda: [_STUN],
    ("stun", TCP): lambda: [_STUN],
    ("ssh", TCP): lambda: [b"SSH-2.0-saltmarsh\r\n"],
    ("rfb", TCP): lambda: [b"RFB 003.008\n"],
    ("rtsp", TCP): lambda: [b"OPTIONS rtsp://saltmarsh.example/door RTSP/1.0\r\nCSeq: 1\r\n\r\n"],
    ("smtp", TCP): lambda: [b"EHLO saltmarsh.example\r\n"],
    ("imap", TCP): lambda: [b"a1 CAPABILITY\r\n"],
    ("pop3", TCP): lambda: [b"CAPA\r\n"],
    ("bittorrent", TCP): lambda: [b"\x13BitTorrent protocol" + bytes(48)],
    ("bittorrent", UDP): lambda: [bytes.fromhex("0000041727101980000000000000abcd")],
}


def opening(known: Known, protocol: int) -> list[bytes] | None:
    """What to send for so much to become known; None where there is no way for it here."""
    if known.names:
        plain = "*" not in known.names[0] and known.seen in ("", "tls") and protocol == TCP
        return [client_hello(known.names[0])] if plain else None
    if not known.seen:
        return [b"." * 64]
    made = OPENINGS.get((known.seen, protocol))
    return made() if made is not None else None


WISH = b"\x01so many bytes\x00"  # then a token of the size, and the size
MOST_GIVEN = 32 << 20  # bytes of one wish
MOST_CONNECTIONS, LASTS = 64, 30.0  # at once; seconds
PATIENCE = 6.0  # seconds for one conversation
CHUNK = 1 << 16


ENTERS, COOKIES, RETURNS = b"n", b"k", b"a"
TOKEN: Final = 16
MOST_ENTERED: Final = 64  # addresses
TRIES, ANSWERS_WITHIN = 4, 1.0  # seconds


def token(secret: bytes, of: bytes) -> bytes:
    """Proof that the sender knows the secret."""
    return hmac.digest(secret, of, "sha256")[:TOKEN]


class Entrance:
    """Admits callers: addresses that know the secret, and have shown that they receive packets. Without a secret, all
    addresses are admitted.

    Over UDP, at the port number of HTTP. Nobody gets more bytes than it sent: a caller sends `n` and a token of
    `enter`; the far end answers `k` and a cookie, which is random and of this address alone; the caller returns `a`,
    the cookie, and the token of the cookie; the far end answers `a`. A token is the first 16 bytes of an HMAC-SHA-256
    (RFC 2104) whose key is the secret.
    """

    def __init__(self, secret: bytes) -> None:
        self.secret = secret
        self._own = os.urandom(32)
        self._entered: set[str] = set()

    def entered(self, address: str) -> bool:
        """Whether this address is answered."""
        return not self.secret or address in self._entered

    def answer(self, data: bytes, address: str) -> bytes | None:
        """What to answer at the entrance; None for strangers."""
        cookie = hmac.digest(self._own, address.encode(), "sha256")[:TOKEN]
        kind, rest = data[:1], data[1:]
        if kind == ENTERS and hmac.compare_digest(rest, token(self.secret, b"enter")):
            return COOKIES + cookie
        if kind == RETURNS and hmac.compare_digest(rest, cookie + token(self.secret, cookie)):
            if len(self._entered) < MOST_ENTERED:
                self._entered.add(address)
            return RETURNS if address in self._entered else None
        return None


def enter(local: str, remote: tuple[str, int], secret: bytes) -> bool:
    """Enter from an address; False if the far end does not answer. OSError."""
    with socket.socket(family(local), socket.SOCK_DGRAM) as end:
        end.bind((local, 0))
        end.connect(remote)
        end.settimeout(ANSWERS_WITHIN)
        says, until = ENTERS + token(secret, b"enter"), COOKIES
        for _ in range(2 * TRIES):
            try:
                end.send(says)
                answer = end.recv(64)
            except (TimeoutError, ConnectionRefusedError):
                continue
            if answer == RETURNS:
                return True
            if answer[:1] == until and len(answer) == 1 + TOKEN:
                says = RETURNS + answer[1:] + token(secret, answer[1:])
    return False


def stream_token(secret: bytes, stream: int) -> bytes:
    """A caller's token for a stream."""
    return token(secret, stream.to_bytes(2))


def wish(size: int, secret: bytes) -> bytes:
    """The request for so many bytes over TCP."""
    return WISH + token(secret, size.to_bytes(8)) + size.to_bytes(8)


def wished(data: bytes, secret: bytes) -> int:
    """How many bytes to answer with: one, without a right wish."""
    size = int.from_bytes(data[-8:])
    if size <= MOST_GIVEN and hmac.compare_digest(data, wish(size, secret)):
        return size
    return 1


class Ends:
    """The far side: who listens, and who has called there."""

    def __init__(self) -> None:
        self.datagrams: list[socket.socket] = []
        self.callers: dict[int, tuple[socket.socket, Any]] = {}
        self._streams: set[tuple[str, int]] = set()  # where TCP is answered
        self._entrance = Entrance(b"")
        self._door: socket.socket | None = None
        self._room = BoundedSemaphore(MOST_CONNECTIONS)

    def listen(self, ends: list[list[Any]], secret: bytes, entrance: list[Any] | None) -> list[list[Any]]:
        """Answer at these ends, and stop at earlier UDP ends; returns those that could be opened. OSError if the
        entrance cannot be.
        """
        for old in self.datagrams:
            old.close()
        self.datagrams, self.callers = [], {}
        if secret != self._entrance.secret:
            self._entrance = Entrance(secret)
        if entrance is not None and self._door is None:
            self._door = udp(*entrance)
        had = []
        for protocol, address, port in ends:
            with suppress(OSError):
                if protocol == "udp":
                    self.datagrams.append(udp(address, port))
                elif (address, port) not in self._streams:
                    listener = socket.create_server((address, port), family=family(address), backlog=64)
                    self._streams.add((address, port))
                    Thread(target=self._accept, args=(listener,), daemon=True).start()
                had.append([protocol, address, port])
        return had

    def attend(self) -> None:
        """Hear who calls, and echo what wants to be."""
        while True:
            door = [self._door] if self._door is not None else []
            ready, _, _ = select.select([sys.stdin, *door, *self.datagrams], (), ())
            for end in (*door, *self.datagrams):
                if end in ready:
                    with suppress(BlockingIOError, ConnectionRefusedError):
                        data, caller = end.recvfrom(2048)
                        answer = (
                            self._entrance.answer(data, caller[0]) if end in door else self._heard(end, data, caller)
                        )
                        if answer is not None:
                            end.sendto(answer, caller)
            if sys.stdin in ready:
                return

    def _heard(self, end: socket.socket, data: bytes, caller: Any) -> bytes | None:
        """What to answer a datagram with."""
        if not self._entrance.entered(caller[0]) or data[:1] == FLOODS:
            return None
        if data[:1] == OPENS:
            stream, secret = int.from_bytes(data[1:3]), self._entrance.secret
            if not secret or hmac.compare_digest(data[3:], stream_token(secret, stream)):
                self.callers[stream] = end, caller
        return data

    def _accept(self, listener: socket.socket) -> None:
        while True:
            connection, caller = listener.accept()
            if not self._entrance.entered(caller[0]) or not self._room.acquire(blocking=False):
                connection.close()
                continue
            Thread(target=self._serve, args=(connection,), daemon=True).start()

    def _serve(self, connection: socket.socket) -> None:
        """Answer any data with a byte, and a wish with as many bytes as it asks for."""
        block, until = bytes(CHUNK), time.monotonic() + LASTS
        try:
            with suppress(OSError), connection:
                connection.settimeout(LASTS)
                while time.monotonic() < until and (data := connection.recv(CHUNK)):
                    give = wished(data, self._entrance.secret)
                    while give > 0 and time.monotonic() < until:
                        give -= connection.send(block[:give])
        finally:
            self._room.release()


def converse(order: dict[str, Any], held: list[socket.socket]) -> None:
    """Hold one conversation, so that a gate knows it: send its first data, and receive the answers.

    `protocol` is an IP protocol number; `local`, `port`, `remote`, `remote_port`, `dscp`, `opening` (in hex), `take`:
    bytes to receive from the far end, whose `secret` is in hex; `steady`: seconds of small packets in both directions.
    """
    kind = {6: socket.SOCK_STREAM, 17: socket.SOCK_DGRAM}.get(order["protocol"], socket.SOCK_RAW)
    end = socket.socket(family(order["local"]), kind, order["protocol"])
    held.append(end)
    end.settimeout(PATIENCE)
    end.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if end.family == socket.AF_INET:
        end.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, order["dscp"] << 2)
    else:
        end.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, order["dscp"] << 2)
    raw = kind == socket.SOCK_RAW
    end.bind((order["local"], 0 if raw else order["port"]))
    end.connect((order["remote"], 0 if raw else order["remote_port"]))
    begun = time.monotonic()
    packets = (
        [request(socket.AddressFamily(end.family), Nonce(order["identifier"], b""), 1)]
        if order["protocol"] in (1, 58)
        else [bytes.fromhex(text) for text in order["opening"]]
    )
    for packet in packets:
        end.send(packet)
        time.sleep(0.02)
    if kind != socket.SOCK_RAW or order["protocol"] in (1, 58):
        end.settimeout(1.0)
        end.recv(CHUNK)
    if order["take"]:
        end.send(wish(order["take"], bytes.fromhex(order.get("secret", ""))))
    taken = 0
    while taken < order["take"] and time.monotonic() - begun < PATIENCE:
        taken += len(end.recv(CHUNK))
    while time.monotonic() - begun < order["steady"]:
        end.send(ECHOES + bytes(120))
        time.sleep(0.02)


def hold(conversations: list[dict[str, Any]]) -> list[str]:
    """Hold all conversations at once; returns the reasons for failures."""
    held: list[socket.socket] = []
    troubles = [""] * len(conversations)

    def attempt(index: int, order: dict[str, Any]) -> None:
        try:
            converse(order, held)
        except OSError as error:
            troubles[index] = str(error)

    threads = [Thread(target=attempt, args=pair, daemon=True) for pair in enumerate(conversations)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(PATIENCE + 4)
    _HELD.extend(held)
    return troubles


def _entered(local: str, remote: tuple[str, int], secret: bytes) -> bool:
    with suppress(OSError):
        return enter(local, remote, secret)
    return False


_HELD: list[socket.socket] = []  # open until the next ones, so that a gate still knows them


def main() -> None:
    """Follow orders until the input ends."""
    far, calls = Ends(), dict[int, tuple[socket.socket, Any]]()
    print(json.dumps({"ready": True}), flush=True)
    while True:
        far.attend()
        line = sys.stdin.readline()
        if not line:
            return
        order = json.loads(line)
        if "listen" in order:
            answer: Any = far.listen(order["listen"], bytes.fromhex(order.get("secret", "")), order.get("entrance"))
        elif "enter" in order:
            secret = bytes.fromhex(order["secret"])
            answer = [_entered(local, (remote, port), secret) for local, remote, port in order["enter"]]
        elif "call" in order:
            for old, _ in calls.values():
                old.close()
            calls = {}
            for index, local, port, remote, remote_port, shown in order["call"]:
                end = udp(local, port)
                end.sendto(OPENS + index.to_bytes(2) + bytes.fromhex(shown), (remote, remote_port))
                calls[index] = end, (remote, remote_port)
            answer = len(calls)
        elif "converse" in order:
            for held in _HELD:
                held.close()
            _HELD.clear()
            answer = hold(order["converse"])
        else:
            to, asked = far.callers or calls, order["flood"]
            span = Span(asked["begin"], asked["from"], asked["until"], asked.get("stamped", True))
            ends = far.datagrams or [end for end, _ in calls.values()]
            answer = flood_and_count(ends, [Sending(*sending) for sending in asked["send"]], to, span)
        print(json.dumps({"answer": answer}), flush=True)


if __name__ == "__main__":
    main()
