"""Packets of a network's interface whose local address is in none of its subnets.

A host has given itself an address that the plan does not know; or it speaks a version of IP that the plan does not
mention; or its network has another prefix now. It is that network's all the same: sorted as its *stranger*, the first
address of its first subnet, which no host has. A stranger whose device is known by an address of the network is that
device (`neighbours`); other devices on the gateway's own links are a host each; and whatever comes from behind another
router shares one bucket.

Likewise what this machine itself sends and receives is that of one host, the *gateway*, whatever addresses it has at
the moment: those by which every machine knows itself (RFC 1122 §3.2.1.3, RFC 4291 §2.5.3) stand for it.
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
