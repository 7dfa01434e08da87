"""Makes the demo's capture of a morning out of the captures that recognition is tested on.

    python -m tools.make_morning

What each program sent is given to a host of the demo site. Then come two long conversations, of which, as with many
captures, only the headers are kept, and large packets as an interface that cuts them itself shows them.
"""

import random
import struct
from ipaddress import ip_address
from pathlib import Path

import dpkt

from tests.recognition.scoring import FOLDER
from wily_sluice import examples

LOCAL, FAR, LOCAL6 = "10.61.0.41", "203.0.113.9", "fd61:0:0:1::41"  # as the captures have them

BEGIN = 1_795_507_200.0  # a Monday at eight in the morning
# Which program's packets, and both parties.
PARTS = (
    ("names-then-tls", "10.61.0.70", "198.51.100.66"),
    ("call", "10.61.0.41", "203.0.113.5"),
    ("meeting", "10.61.0.21", "203.0.113.40"),
    ("tls13", "10.61.0.12", "198.51.100.31"),
    ("quic", "10.61.40.20", "198.51.100.32"),
    ("tls12", "10.61.30.117", "198.51.100.32"),
    ("quic-long", "10.61.30.118", "198.51.100.33"),
    ("swarm-tcp", "10.61.30.119", "203.0.113.90"),
    ("swarm-utp", "10.61.40.20", "203.0.113.91"),
    ("ssh", "10.61.0.12", "203.0.113.130"),
    ("smtp", "10.61.0.13", "203.0.113.25"),
    ("http", "10.61.0.13", "198.51.100.40"),
    ("ntp", "10.61.0.80", "203.0.113.123"),
    ("wireguard", "10.61.0.12", "198.51.100.200"),
    ("random-tcp", "10.61.40.20", "192.0.2.77"),
)


def renamed(frame: bytes, local: str, remote: str) -> bytes:
    """The same packet between others; over IPv6, of the host of the surgery with the same last number."""
    head, packet = frame[:14], bytearray(frame[14:])
    if head[12:] == b"\x86\xdd":
        own = ip_address(f"fd61:0:0:1::{local.rpartition('.')[2]}").packed
        return head + bytes(packet.replace(ip_address(LOCAL6).packed, own))
    for old, new in ((LOCAL, local), (FAR, remote)):  # in the header, and in what a message says of it
        packet = packet.replace(ip_address(old).packed, ip_address(new).packed)
        packet = packet.replace(f"{old}\r".encode(), f"{new}\r".encode())
    return head + bytes(packet)


def made(
    local: str, remote: str, protocol: int, ports: tuple[int, int], up: bool, length: int, payload: bytes = b""
) -> bytes:
    """A packet of which no more is kept than its headers, and these bytes of its payload."""
    ends = [ip_address(local).packed, ip_address(remote).packed]
    numbers = list(ports)
    if not up:
        ends.reverse()
        numbers.reverse()
    transport = (
        struct.pack(">HHHH", *numbers, length - 20, 0)
        if protocol == 17
        else struct.pack(">HHIIBBHHH", *numbers, 0, 0, 80, 16, 500, 0, 0)
    )
    header = struct.pack(">BBHHHBBH", 0x45, 0, length, 0, 0, 64, protocol, 0) + b"".join(ends)
    return bytes(12) + b"\x08\x00" + header + transport + payload


def main() -> None:
    choose = random.Random(61)
    frames: list[tuple[float, bytes]] = []
    for index, (name, local, remote) in enumerate(PARTS):
        recorded = list(dpkt.pcap.Reader((FOLDER / f"{name}.pcap").open("rb")))
        begin = BEGIN + index * 3 + choose.random()
        for moment, frame in recorded:
            if frame[12:14] in (b"\x08\x00", b"\x86\xdd"):
                frames.append((begin + float(moment) - float(recorded[0][0]), renamed(frame, local, remote)))
    for number in range(400):  # a game, 20 packets a second each way
        at = BEGIN + 5 + number * 0.05
        for up in (True, False):
            length = choose.randrange(70, 160)
            frames.append(
                (at, made("10.61.40.15", "203.0.113.88", 17, (50_000, 41_105), up, length, choose.randbytes(12)))
            )
    download = (choose.randrange(50_000, 60_000), 443)
    for number in range(420):  # a download of 27 MB, in large packets, and its acknowledgements
        at = BEGIN + 10 + number * 0.04
        frames.append((at, made("10.61.0.13", "198.51.100.30", 6, download, False, 64_000)))
        frames.append((at + 0.01, made("10.61.0.13", "198.51.100.30", 6, download, True, 52)))
    arp = bytes(12) + b"\x08\x06" + bytes(28)
    frames += [(BEGIN + 7 * number, arp) for number in range(6)]
    frames += [
        (BEGIN + 2 + number, made("10.61.0.13", "10.61.30.117", 6, (50_000, 80), True, 400)) for number in range(3)
    ]
    with (Path(examples.folder()) / examples.CAPTURE).open("wb") as file:
        writer = dpkt.pcap.Writer(file)
        for moment, frame in sorted(frames):
            writer.writepkt(frame[:1600], moment)


if __name__ == "__main__":
    main()
