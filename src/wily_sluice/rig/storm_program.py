"""Sends floods like hostile or broken hosts: `python storm_program.py KIND INTERFACE HARDWARE … SECONDS RATE DEVICES`.

Frames are sent raw, so that each may have another sender, and none waits for an answer. HARDWARE is the address of the
gateway on that interface. KIND is what changes in each packet:

- `udp`, `syn`: the ports, so that each opens a conversation
- `devices`: the same as `udp`, from so many devices in turn, each with its address
- `hosts4`, `hosts6`: the sender's address, within the given one's /16 or /64, and the ports
- `quic`: the connection ID of a forged Initial (RFC 9000 §17.2.2), and the ports
- `fragments`: the identification of a fragment other than the first (RFC 791)

Prints the number of packets sent, as JSON. Ports and addresses are counted up, not drawn, so that none recurs soon.
Checksums stay right without recalculation: an unused field compensates for the changes.
"""

import json
import socket
import struct
import sys
import time
from collections.abc import Callable
from ipaddress import ip_address

from wily_sluice.gate.kernel.echo import checksum

BURST = 0.001  # seconds: how often it sends
HEADER = 14  # bytes of Ethernet


def _ipv4(local: bytes, remote: bytes, protocol: int, payload: bytes, fragment: int = 0) -> bytearray:
    head = bytearray(
        struct.pack(">BBHHHBBH4s4s", 0x45, 0, 20 + len(payload), 0, fragment, 64, protocol, 0, local, remote)
    )
    struct.pack_into(">H", head, 10, checksum(bytes(head)))
    return head + payload


def _ipv6(local: bytes, remote: bytes, protocol: int, payload: bytes) -> bytearray:
    return bytearray(struct.pack(">IHBB16s16s", 6 << 28, len(payload), protocol, 64, local, remote)) + payload


def _packet(kind: str, local: bytes, remote: bytes, devices: int) -> tuple[bytearray, Callable[[bytearray, int], None]]:
    """The `n`-th packet of a kind."""
    ports = HEADER + (20 if len(local) == 4 else 40)

    def new_ports(frame: bytearray, n: int) -> None:
        struct.pack_into(">HH", frame, ports, 1024 + n % 60_000, 1024 + n // 60_000 % 60_000)

    if kind == "udp":
        return _ipv4(local, remote, 17, struct.pack(">HHHH", 0, 0, 26, 0) + bytes(18)), new_ports
    if kind == "devices":
        packet = _ipv4(local[:3] + bytes(1), remote, 17, struct.pack(">HHHH", 0, 0, 26, 0) + bytes(18))

        def new_device(frame: bytearray, n: int) -> None:
            new_ports(frame, n)
            device = 1 + n % devices
            frame[11] = frame[HEADER + 15] = device
            struct.pack_into(">H", frame, HEADER + 4, 0xFFFF - device)  # the identification

        return packet, new_device
    if kind == "quic":
        body = b"\xc0" + bytes.fromhex("00000001") + b"\x08" + bytes(8) + b"\x00\x00\x44\x96" + bytes(1174)

        def new_initial(frame: bytearray, n: int) -> None:
            new_ports(frame, n)
            struct.pack_into(">H", frame, ports + 2, 443)
            struct.pack_into(">Q", frame, ports + 14, n * 0x9E3779B97F4A7C15 & (1 << 64) - 1)

        return _ipv4(local, remote, 17, struct.pack(">HHHH", 0, 443, 8 + len(body), 0) + body), new_initial
    if kind == "syn":
        segment = struct.pack(">HHIIBBHHH", 0, 0, 0, 0, 0x50, 2, 64_240, 0, 0)
        seeming = local + remote + struct.pack(">BBH", 0, 6, len(segment))
        total = checksum(seeming + segment)
        segment = segment[:16] + total.to_bytes(2) + segment[18:]

        def new_syn(frame: bytearray, n: int) -> None:
            new_ports(frame, n)
            source, other = struct.unpack_from(">HH", frame, ports)
            # What the ports add to the sum, the two halves of the sequence number take away again.
            struct.pack_into(">HH", frame, ports + 4, 0xFFFF - source, 0xFFFF - other)

        return _ipv4(local, remote, 6, segment), new_syn
    if kind == "hosts4":
        packet = _ipv4(local[:2] + bytes(2), remote, 17, struct.pack(">HHHH", 0, 0, 26, 0) + bytes(18))

        def new_host4(frame: bytearray, n: int) -> None:
            new_ports(frame, n)
            host = n * 40_503 & 0xFFFF
            struct.pack_into(">H", frame, HEADER + 4, 0xFFFF - host)  # the identification
            struct.pack_into(">H", frame, HEADER + 14, host)

        return packet, new_host4
    if kind == "hosts6":
        body = struct.pack(">HHHH", 0, 0, 26, 0) + bytes(18)
        seeming = local[:8] + bytes(8) + remote + struct.pack(">IHBB", len(body), 0, 0, 17)
        total = checksum(seeming + body) or 0xFFFF
        packet = _ipv6(local[:8] + bytes(8), remote, 17, body[:6] + total.to_bytes(2) + body[8:])

        def new_host6(frame: bytearray, n: int) -> None:
            new_ports(frame, n)
            struct.pack_into(">Q", frame, HEADER + 16, n + 0x100)
            words = struct.unpack_from(">4H", frame, HEADER + 16) + struct.unpack_from(">HH", frame, ports)
            made_up = sum(words)
            while made_up >> 16:
                made_up = (made_up & 0xFFFF) + (made_up >> 16)
            struct.pack_into(">H", frame, ports + 8, 0xFFFF - made_up)

        return packet, new_host6
    if kind == "fragments":
        packet = _ipv4(local, remote, 17, bytes(64), fragment=0x2000 | 100)
        before = struct.unpack_from(">H", packet, 10)[0]

        def new_fragment(frame: bytearray, n: int) -> None:
            number = n & 0xFFFF
            total = (before ^ 0xFFFF) + number
            total = (total & 0xFFFF) + (total >> 16)
            struct.pack_into(">H", frame, HEADER + 4, number)
            struct.pack_into(">H", frame, HEADER + 10, total ^ 0xFFFF)

        return packet, new_fragment
    raise SystemExit(f"unknown kind {kind!r}")


def main(
    kind: str, interface: str, hardware: str, local: str, remote: str, seconds: str, rate: str, devices: str = "1"
) -> None:
    """Send."""
    addresses = ip_address(local).packed, ip_address(remote).packed
    packet, renew = _packet(kind, *addresses, int(devices))
    line = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
    line.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 8 << 20)
    line.bind((interface, 0))
    own = bytes.fromhex("02005e006600")  # no device of the rig
    protocol = b"\x08\x00" if len(addresses[0]) == 4 else b"\x86\xdd"
    frame = bytearray(bytes.fromhex(hardware.replace(":", "")) + own + protocol) + packet
    begun, sent, refused = time.monotonic(), 0, 0
    over, wanted = begun + float(seconds), float(rate)
    send = line.send
    while (now := time.monotonic()) < over:
        due = int((now - begun) * wanted)
        if due - sent > wanted / 4:  # too much for this machine: it is not made up for
            begun, due = now - sent / wanted, sent + 64
        while sent < due:
            renew(frame, sent)
            try:
                send(frame)
            except OSError:
                refused += 1
            sent += 1
        time.sleep(BURST)
    print(json.dumps({"sent": sent - refused, "refused": refused, "seconds": float(seconds)}))


if __name__ == "__main__":
    main(*sys.argv[1:])
