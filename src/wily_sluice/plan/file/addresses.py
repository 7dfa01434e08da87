"""Addresses as a person writes them: one, a range, or a subnet, of IPv4 (RFC 791) or IPv6 (RFC 4291).

Every parser raises ValueError with a message fit for the person.
"""

import re
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from wily_sluice.engine.classify.addresses import AddressSet, Range
from wily_sluice.units import quoted


def parse_prefix(text: object) -> IPv4Network | IPv6Network:
    """Read a subnet. Bits beyond the prefix are an error: the person may have meant the host, or another prefix."""
    if not isinstance(text, str) or "/" not in text:
        raise ValueError(f"{quoted(text)} is not a subnet: write it like 10.61.0.0/24 or fd61::/64")
    try:
        return ip_network(text.strip())
    except ValueError:
        try:
            meant = ip_network(text.strip(), strict=False)
        except ValueError:
            raise ValueError(f"{quoted(text)} is not a subnet: write it like 10.61.0.0/24 or fd61::/64") from None
        raise ValueError(f"{quoted(text)} has bits set beyond its prefix: the subnet is {meant}") from None


def parse_range(text: str) -> Range:
    """Read `10.61.0.40`, `10.61.0.40-10.61.0.59`, `10.61.0.0/24`, or the same for IPv6."""
    if "/" in text:
        prefix = parse_prefix(text)
        return prefix.network_address.packed, prefix.broadcast_address.packed
    first_text, dash, last_text = text.partition("-")
    try:
        first = ip_address(first_text.strip())
        last = ip_address(last_text.strip()) if dash else first
    except ValueError:
        raise ValueError(
            f"{quoted(text)} is not an address, range or subnet: "
            "write it like 10.61.0.40, 10.61.0.40-10.61.0.59 or 10.61.0.0/24"
        ) from None
    if first.version != last.version:
        raise ValueError(f"{quoted(text)} runs from IPv{first.version} to IPv{last.version}")
    if first.packed > last.packed:
        raise ValueError(f"{quoted(text)} runs backwards: write {last}-{first}")
    return first.packed, last.packed


_HARDWARE = re.compile(r"[0-9a-f]{2}([:-][0-9a-f]{2}){5}", re.IGNORECASE)


def parse_hardware(text: str) -> bytes | None:
    """A hardware address such as `02:00:5e:10:00:01` (IEEE 802, 48 bits); None for other words."""
    if not _HARDWARE.fullmatch(text):
        return None
    return bytes.fromhex(text.replace(":", "").replace("-", ""))


def hardware_text(address: bytes) -> str:
    """`02:00:5e:10:00:01`."""
    return address.hex(":")


def looks_like_address(word: str) -> bool:
    """Whether a word looks like an address rather than a name."""
    return word[:1].isdigit() or ":" in word or "/" in word


def address_set(text: str) -> AddressSet:
    """The set of a single written address, range or subnet."""
    return AddressSet([parse_range(text)])
