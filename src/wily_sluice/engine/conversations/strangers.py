"""Packets on a network's interface with a local address in none of its subnets.

A host may use an address that the plan does not know, another IP version, or a new prefix of the network. It still
belongs to the network and is sorted as its *stranger*: the first address of the first subnet, which no host has. A
stranger whose device also has an address of the network counts as that device (`neighbours`). Other devices on the
gateway's links are one host each; all strangers behind another router share one bucket.

Packets of this machine itself belong to one host, the *gateway*, represented by the loopback addresses (RFC 1122
§3.2.1.3, RFC 4291 §2.5.3).
"""

from typing import Final

from wily_sluice.engine.classify.addresses import AddressSet


class Home:
    """One network: its addresses, and those of its stranger, of IPv4 and of IPv6; either may be empty, not both."""

    __slots__ = ("addresses", "name", "v4", "v6")

    def __init__(self, name: str, addresses: AddressSet) -> None:
        self.name = name
        self.addresses = addresses
        firsts = [first for first, _ in addresses]
        self.v4 = next((first for first in firsts if len(first) == 4), b"")
        self.v6 = next((first for first in firsts if len(first) == 16), b"")

    def stranger(self, width: int) -> bytes:
        """The address of its stranger, of this width if there is one."""
        return (self.v4 or self.v6) if width == 4 else (self.v6 or self.v4)


_ITSELF: Final = bytes((127, 0, 0, 1)), bytes(15) + b"\1"
GATEWAY: Final = Home("gateway", AddressSet((address, address) for address in _ITSELF))
