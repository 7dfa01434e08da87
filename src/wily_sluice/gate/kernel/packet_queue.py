"""The kernel's packet queue (NFQUEUE), spoken to in netlink messages that are packed and parsed here.

Source: linux/netfilter/nfnetlink_queue.h and linux/netlink.h. A netlink header and an attribute's header are in the
machine's byte order, their contents in network byte order. Only the first bytes of each packet are copied; the packet
itself stays in the kernel until its verdict. Verdicts are collected and sent together.

If a queue has no reader, the rule with `--queue-bypass` lets packets through; if the reader is too slow, the queue does
(`FAIL_OPEN`). The kernel numbers packets before it knows whether they are taken, so the missing numbers are those of
packets that bypassed the gate.

A message holds at most VERDICT_PARTS / 2 verdicts, since the kernel would refuse a longer one. A message that it still
refuses is counted, and sent again at the next `flush`.
"""

import contextlib
import errno
import os
import socket
import struct
import sys
from collections.abc import Callable
from typing import Final

from wily_sluice.units import Size

NETLINK_NETFILTER: Final = 12
SOL_NETLINK: Final = 270
NETLINK_NO_ENOBUFS: Final = 5
NLM_F_REQUEST: Final = 1
NLM_F_ACK: Final = 4
NLMSG_ERROR: Final = 2
SUBSYSTEM: Final = 3 << 8  # NFNL_SUBSYS_QUEUE
MSG_PACKET: Final = SUBSYSTEM | 0
MSG_VERDICT: Final = SUBSYSTEM | 1
MSG_CONFIG: Final = SUBSYSTEM | 2
MSG_VERDICT_BATCH: Final = SUBSYSTEM | 3
CFG_CMD: Final = 1
CFG_PARAMS: Final = 2
CFG_QUEUE_MAXLEN: Final = 3
CFG_MASK: Final = 4
CFG_FLAGS: Final = 5
CMD_BIND: Final = 1
CMD_UNBIND: Final = 2
COPY_PACKET: Final = 2
FAIL_OPEN: Final = 1  # NFQA_CFG_F_FAIL_OPEN, NFQA_CFG_F_GSO
WHOLE_SEGMENTS: Final = 4
PACKET_HDR: Final = 1
VERDICT_HDR: Final = 2
FWMARK: Final = 3
CAME_BY: Final = 5  # NFQA_IFINDEX_INDEV, NFQA_IFINDEX_OUTDEV
LEAVES_BY: Final = 6
HARDWARE: Final = 9
PAYLOAD: Final = 10
CAP_LEN: Final = 13
DROP: Final = 0
ACCEPT: Final = 1
REPEAT: Final = 4  # linux/netfilter.h

HEADER_BYTES: Final = 128  # enough for IPv6 with some extension headers, and the ports
WHOLE_BYTES: Final = 2048  # enough for any packet of a line
MOST_WAITING: Final = 65_535  # packets the kernel may hold for us
RECEIVE_BUFFER: Final = 16 << 20  # bytes: some 16,000 packets
SHORT_BUFFER: Final = 768 << 10  # for packets that must not wait behind so many
VERDICT_PARTS: Final = 128  # of messages that are sent together: for each verdict its head and the packet's token

WHOLE: Final = 65_535
SHORTEST_PACKET: Final = 28  # bytes of a message with a packet's id
ATTRIBUTES: Final = 256  # bytes of a message beyond the packet, and some more

_ATTRIBUTE: Final = struct.Struct("=HH")
_LOW: Final = 0 if sys.byteorder == "little" else 1  # where the lower byte of two is
_HIGH: Final = 1 - _LOW


class QueuedPacket:
    """A packet held by the kernel: its id as in the message, its first bytes, its length if over 64 kB.

    `fwmark` is its firewall mark, which routing and other rules may use; `hardware` is the sender's hardware address,
    empty if unknown, as for the parts of a large packet that the kernel has cut; `inside` is the index of the interface
    on the hosts' side; `queue` is its queue.
    """

    __slots__ = ("fwmark", "hardware", "header", "inside", "length", "queue", "token")

    def __init__(
        self, token: bytes, header: bytes, length: int, fwmark: int, hardware: bytes, inside: int, queue: "PacketQueue"
    ) -> None:
        self.inside = inside
        self.token = token
        self.header = header
        self.length = length
        self.fwmark = fwmark
        self.hardware = hardware
        self.queue = queue


def _message(kind: int, flags: int, number: int, attributes: bytes) -> bytes:
    body = struct.pack(">BBH", socket.AF_UNSPEC, 0, number) + attributes
    return struct.pack("=IHHII", 16 + len(body), kind, NLM_F_REQUEST | flags, 0, 0) + body


def _attribute(kind: int, value: bytes) -> bytes:
    return _ATTRIBUTE.pack(4 + len(value), kind) + value + bytes(-len(value) % 4)


def _handing_over(whole: bool, copied: Size) -> bytes:
    return (
        _attribute(CFG_PARAMS, struct.pack(">IB", copied, COPY_PACKET))
        + _attribute(CFG_FLAGS, struct.pack(">I", FAIL_OPEN | (WHOLE_SEGMENTS if whole else 0)))
        + _attribute(CFG_MASK, struct.pack(">I", FAIL_OPEN | WHOLE_SEGMENTS))
    )


def netlink_socket() -> socket.socket:
    """A socket to the kernel's netfilter. OSError when there is none."""
    line = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, NETLINK_NETFILTER)
    try:
        line.setsockopt(SOL_NETLINK, NETLINK_NO_ENOBUFS, 1)
        line.bind((0, 0))
    except OSError:
        line.close()
        raise
    return line


class PacketQueue:
    """One numbered queue. `whole` takes large offloaded packets uncut. OSError when the kernel refuses.

    `copied` is how many bytes of each packet the kernel hands over; `missed` how many packets bypassed the gate, since
    it did not read fast enough; `refused` how many messages of verdicts it did not take at first. `connect` opens
    the socket to the kernel, or to its stand-in; up to `buffer` bytes may wait there unread. `up` says on which side
    the hosts are.
    """

    def __init__(
        self,
        number: int,
        whole: bool = False,
        copied: Size = HEADER_BYTES,
        connect: Callable[[], socket.socket] = netlink_socket,
        buffer: Size = RECEIVE_BUFFER,
        up: bool = True,
    ) -> None:
        self.number = number
        self._inside = CAME_BY if up else LEAVES_BY
        self.missed = 0
        self.refused = 0
        self._room = copied + ATTRIBUTES
        self._last = b""
        self._early: list[bytes] = []  # messages that came while it was configured
        self._number = 0
        self._verdicts: list[bytes] = []
        verdict = struct.Struct(">I")
        self._accept, self._drop = (
            _message(MSG_VERDICT, 0, number, _attribute(VERDICT_HDR, verdict.pack(word) + bytes(4)))[:-4]
            for word in (ACCEPT, DROP)
        )
        self._socket = connect()
        try:
            with contextlib.suppress(OSError):
                # SO_RCVBUFFORCE (33) needs root, which binding a queue needs as well.
                self._socket.setsockopt(socket.SOL_SOCKET, 33, buffer)
            self._configure(_attribute(CFG_CMD, struct.pack(">BBH", CMD_BIND, 0, 0)))
            self._configure(
                _handing_over(whole, copied) + _attribute(CFG_QUEUE_MAXLEN, struct.pack(">I", MOST_WAITING))
            )
            self._socket.setblocking(False)
        except OSError:
            self._socket.close()
            raise

    def hand_over(self, whole: bool, copied: Size, buffer: Size = RECEIVE_BUFFER) -> None:
        """Change how later packets are handed over."""
        with contextlib.suppress(OSError):
            self._socket.setsockopt(socket.SOL_SOCKET, 33, buffer)
        self._room = copied + ATTRIBUTES
        self._socket.send(_message(MSG_CONFIG, 0, self.number, _handing_over(whole, copied)))

    @property
    def numbered(self) -> int:
        """How many packets the kernel has numbered, up to the last that was read."""
        return self._number

    def fileno(self) -> int:
        """For select."""
        return self._socket.fileno()

    def _configure(self, attributes: bytes) -> None:
        self._socket.send(_message(MSG_CONFIG, NLM_F_ACK, self.number, attributes))
        while True:
            reply = self._socket.recv(ATTRIBUTES + WHOLE)
            if len(reply) >= 20 and struct.unpack_from("=H", reply, 4)[0] == NLMSG_ERROR:
                break
            self._early.append(reply)  # packets may come before the answer does
        code: int = struct.unpack_from("=i", reply, 16)[0]
        if code:
            raise OSError(-code, os.strerror(-code))

    def read(self, limit: int) -> list[QueuedPacket]:
        """The packets that the kernel has handed over, up to `limit`; an empty list when there are none."""
        packets: list[QueuedPacket] = []
        receive, room, inside = self._socket.recv, self._room, self._inside
        try:
            while len(packets) < limit:
                data: bytes = self._early.pop(0) if self._early else receive(room)
                # The kernel sends each packet as a message of its own, its id in the first attribute.
                if len(data) < SHORTEST_PACKET or data[4 + _LOW] | data[4 + _HIGH] << 8 != MSG_PACKET:
                    if not data:
                        break
                    continue
                offset, end, length, fwmark, device = 20, len(data), 0, 0, 0
                header = hardware = b""
                while offset + 4 <= end:
                    size = data[offset + _LOW] | data[offset + _HIGH] << 8
                    if size < 4:
                        break
                    kind = data[offset + 2 + _LOW]
                    if kind == PAYLOAD:
                        header = data[offset + 4 : offset + size]
                        break
                    if kind == inside:
                        device = int.from_bytes(data[offset + 4 : offset + 8])
                    elif kind == FWMARK:
                        fwmark = int.from_bytes(data[offset + 4 : offset + 8])
                    elif kind == HARDWARE:
                        hardware = data[offset + 8 : offset + 14]
                    elif kind == CAP_LEN:
                        length = int.from_bytes(data[offset + 4 : offset + 8])
                    offset += (size + 3) & ~3
                packets.append(QueuedPacket(data[24:28], header, length, fwmark, hardware, device, self))
        except BlockingIOError:
            pass
        except OSError as error:
            if error.errno != errno.ENOBUFS:
                raise
        if packets:
            self._last = packets[-1].token
            number = int.from_bytes(self._last)
            self.missed += (number - self._number - len(packets)) & 0xFFFFFFFF
            self._number = number
        return packets

    def accept(self, token: bytes) -> None:
        """Let a packet go, at the next `flush` or when enough have gathered."""
        self._say(self._accept, token)

    def accept_marked(self, token: bytes, fwmark: int, again: bool = False) -> None:
        """Let a packet go with this kernel mark; `again`, once more through the table that it came from."""
        verdict = _attribute(VERDICT_HDR, struct.pack(">I", REPEAT if again else ACCEPT) + token)
        self._say(_message(MSG_VERDICT, 0, self.number, verdict + _attribute(FWMARK, struct.pack(">I", fwmark))), b"")

    def drop(self, token: bytes) -> None:
        """Drop a packet, likewise."""
        self._say(self._drop, token)

    def _say(self, head: bytes, token: bytes) -> None:
        self._verdicts.append(head)
        self._verdicts.append(token)
        if len(self._verdicts) == VERDICT_PARTS:
            self.flush()

    def flush(self) -> None:
        """Send the verdicts collected so far. Those that the kernel does not take now are kept for the next time."""
        verdicts = self._verdicts
        while verdicts:
            some = verdicts if len(verdicts) <= VERDICT_PARTS else verdicts[:VERDICT_PARTS]
            try:
                self._socket.send(b"".join(some))
            except OSError:
                self.refused += 1
                return
            if some is verdicts:
                verdicts.clear()
            else:
                del verdicts[:VERDICT_PARTS]

    def close(self) -> None:
        """Let all held packets go, and give the queue up."""
        with contextlib.suppress(OSError):
            self.flush()
            while self.read(1024):
                pass
            if self._last:
                body = _attribute(VERDICT_HDR, struct.pack(">I", ACCEPT) + self._last)
                self._socket.send(_message(MSG_VERDICT_BATCH, 0, self.number, body))
            self._socket.send(
                _message(MSG_CONFIG, 0, self.number, _attribute(CFG_CMD, struct.pack(">BBH", CMD_UNBIND, 0, 0)))
            )
        self._socket.close()
