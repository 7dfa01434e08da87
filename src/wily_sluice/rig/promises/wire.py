"""Bytes that are not left to the kernel."""

import socket
import struct

from wily_sluice.rig.storm_program import checksum


def icmp_echo(family: int, identifier: int) -> bytes:
    """A request for an echo (RFC 792, RFC 4443 §4.1). Of ICMPv6, the kernel works out the checksum."""
    if family == socket.AF_INET6:
        return struct.pack(">BBHHH", 128, 0, 0, identifier, 1)
    message = struct.pack(">BBHHH", 8, 0, 0, identifier, 1)
    return message[:2] + checksum(message).to_bytes(2) + message[4:]
