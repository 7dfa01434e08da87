"""Reads the leases of a DHCP server, in three common forms:

- lines of `EXPIRES HARDWARE ADDRESS NAME …`, with seconds since 1970, a `*` if the host gave no name;
- blocks of `lease ADDRESS { hardware ethernet HARDWARE; client-hostname "NAME"; }`, the last for an address;
- CSV with a heading that has `address`, `hwaddr` and `hostname`, the last for an address.

Names come from the hosts themselves, so only valid host names are accepted (RFC 1123 §2.1).
"""

import csv
import re
from collections.abc import Iterator
from ipaddress import ip_address
from typing import NamedTuple

MOST_LEASES = 16_384
LARGEST_FILE = 8_000_000  # bytes
_LINE = re.compile(r"(\d+) ([0-9A-Fa-f:]{17}|\S+) (\S+) (\S+)(?: |$)")
_BLOCK = re.compile(r"^lease\s+(\S+)\s*\{(.*?)^\}", re.MULTILINE | re.DOTALL)
_HARDWARE = re.compile(r"^\s*hardware\s+\S+\s+([0-9A-Fa-f:]+)\s*;", re.MULTILINE)
_NAME = re.compile(r'^\s*client-hostname\s+"([^"]*)"\s*;', re.MULTILINE)
_HOST_NAME = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?")


class Lease(NamedTuple):
    """An address, as it is usually written; the hardware address and the name that the host gave, each or nothing."""

    address: str
    hardware: str
    name: str


def leases(text: str) -> list[Lease]:
    """All that a file has, whatever its form; what cannot be read is left out."""
    if _BLOCK.search(text):
        found = _blocks(text)
    elif "hwaddr" in text.partition("\n")[0]:
        found = _rows(text)
    else:
        found = _lines(text)
    by_address: dict[str, Lease] = {}
    for address, hardware, name in found:
        try:
            written = str(ip_address(address))
        except ValueError:
            continue
        by_address[written] = Lease(written, hardware.lower(), host_name(name))
        if len(by_address) >= MOST_LEASES:
            break
    return list(by_address.values())


def host_name(text: str) -> str:
    """The first part of a name, if it can be one; empty otherwise."""
    first = text.partition(".")[0]
    return first if _HOST_NAME.fullmatch(first) else ""


def _lines(text: str) -> Iterator[tuple[str, str, str]]:
    for line in text.splitlines():
        found = _LINE.match(line)
        if found is not None:
            yield found[3], found[2], found[4]


def _blocks(text: str) -> Iterator[tuple[str, str, str]]:
    for block in _BLOCK.finditer(text):
        hardware, name = _HARDWARE.search(block[2]), _NAME.search(block[2])
        yield block[1], hardware[1] if hardware is not None else "", name[1] if name is not None else ""


def _rows(text: str) -> Iterator[tuple[str, str, str]]:
    for row in csv.DictReader(text.splitlines()):
        yield row.get("address") or "", row.get("hwaddr") or "", row.get("hostname") or ""
