"""Local hosts: the hardware address of each local address, and addresses that do not belong to their network.

The hardware address (IEEE 802) of each local address, learnt from packets; and so the addresses of each device.

A host given by its hardware address matches at any IP address, in both directions. A device with several addresses (RFC
4862, RFC 8981) counts as one host. All its addresses are represented by its `primary` one. That is the first address in
the plan's networks, IPv4 if it has one. A device without such an address, for instance after a change of prefix, uses
its first address outside. This applies to addresses that are `near`, on the gateway's own links. Behind another router,
all packets have the router's hardware address, so each address is a host. So it is for addresses `apart`: in a network
behind a repeater that gives all devices one hardware address.

If two devices claim an address, the first keeps it until it has been silent for HOLD. Until then, packets of the other
count as sent from an address that this device has, if it has one, or from the network's stranger. The table has
at most MOST_ADDRESSES entries, and MOST_OF_A_DEVICE for each device. The oldest are forgotten first, but never a
primary one.

Packets on a network's interface with a local address in none of its subnets.

A host may use an address that the plan does not know, another IP version, or a new prefix of the network. It still
belongs to the network and is sorted as its *stranger*: the first address of the first subnet, which no host has. A
stranger whose device also has an address of the network counts as that device (`neighbours`). Other devices on the
gateway's links are one host each; all strangers behind another router share one bucket.

Packets of this machine itself belong to one host, the *gateway*, represented by the loopback addresses (RFC 1122
§3.2.1.3, RFC 4291 §2.5.3).
"""

from collections import deque
from collections.abc import Sequence
from typing import Final

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.units import SECOND, Nanoseconds

HOLD: Final[Nanoseconds] = 10 * SECOND
MOST_ADDRESSES: Final = 16_384
MOST_OF_A_DEVICE: Final = 64
MANY: Final = 4  # addresses of IPv4, more than a device has by itself
THE_SAME: Final = 0
CHANGED: Final = 1
ANOTHER: Final = 2
NOWHERE: Final = AddressSet()


class Device:
    """Its near addresses, the oldest first; `primary` is empty while it has none."""

    __slots__ = ("addresses", "hardware", "primary")

    def __init__(self, hardware: bytes) -> None:
        self.hardware = hardware
        self.addresses: list[bytes] = []
        self.primary = b""

    def choose(self, own: AddressSet) -> None:
        """Choose the primary address again if it has gone or a better one has appeared."""
        if self.primary not in self.addresses:
            self.primary = b""
        for address in self.addresses:
            if not self.primary or (address not in own, len(address)) < (self.primary not in own, len(self.primary)):
                self.primary = address


class Neighbour:
    """Who has an address, and when it was last heard."""

    __slots__ = ("address", "device", "heard")

    def __init__(self, address: bytes, device: Device, heard: Nanoseconds) -> None:
        self.address = address
        self.device = device
        self.heard = heard


class Neighbours:
    """`watched` are the hardware addresses in rules and limiters; `near` the addresses on the gateway's links;
    `networks` the addresses of each network; of those `apart`, each is a host.
    """

    __slots__ = ("_apart", "_devices", "_known", "_networks", "_order", "_own", "near", "watched")

    def __init__(
        self,
        watched: frozenset[bytes] = frozenset(),
        near: AddressSet = NOWHERE,
        networks: Sequence[AddressSet] = (),
        apart: AddressSet = NOWHERE,
    ) -> None:
        self.watched = watched
        self._apart = apart
        self.near = near
        self._networks = networks
        self._own = AddressSet(both for network in networks for both in network)
        self._known: dict[bytes, Neighbour] = {}
        self._devices: dict[bytes, Device] = {}
        self._order: deque[Neighbour] = deque()

    def succeed(self, before: "Neighbours") -> None:
        """Take over the entries of another table."""
        self.near = before.near
        if self._apart != before._apart:
            return
        self._known, self._devices, self._order = before._known, before._devices, before._order
        for device in self._devices.values():
            device.choose(self._own)

    def look_near(self, near: AddressSet) -> bool:
        """Set the near addresses. Returns True if they changed; then the table starts empty."""
        if near == self.near:
            return False
        self.near = near
        self._known, self._devices, self._order = {}, {}, deque()
        return True

    def hardware(self, address: bytes) -> bytes | None:
        """The hardware address of who has this IP address; None where that is not known."""
        known = self._known.get(address)
        return known.device.hardware if known is not None else None

    def host(self, address: bytes) -> bytes:
        """The primary address of the device with this address; empty if no device is known."""
        known = self._known.get(address)
        return known.device.primary if known is not None else b""

    def same_network(self, first: bytes, other: bytes) -> bool:
        """Whether one of the plan's networks has both addresses."""
        return any(first in network and other in network for network in self._networks)

    def shared(self) -> list[tuple[bytes, bytes, int]]:
        """The devices with many addresses of IPv4, which may be a repeater: hardware address, one of them, how many."""
        shared = []
        for device in self._devices.values():
            many = [address for address in device.addresses if len(address) == 4]
            if len(many) >= MANY:
                shared.append((device.hardware, many[0], len(many)))
        return shared

    def learn(self, address: bytes, hardware: bytes, now: Nanoseconds) -> int:
        """Take note of who sent from an address: THE_SAME as before; CHANGED, when that may change what conversations
        are sorted by; or ANOTHER device while the one that has the address is heard.
        """
        known = self._known.get(address)
        if known is None:
            return CHANGED if self._add(address, hardware, now) else THE_SAME
        if known.device.hardware == hardware:
            known.heard = now
            return THE_SAME
        if now - known.heard < HOLD:
            return ANOTHER if address in self.near and address not in self._apart else THE_SAME
        watched = known.device.hardware in self.watched
        self._forget(known)
        return CHANGED if self._add(address, hardware, now) or watched else THE_SAME

    def own(self, hardware: bytes, width: int) -> bytes:
        """An address of this width that a device has; empty if none is known."""
        device = self._devices.get(hardware)
        if device is not None:
            for address in device.addresses:
                if len(address) == width:
                    return address
        return b""

    def _add(self, address: bytes, hardware: bytes, now: Nanoseconds) -> bool:
        while len(self._known) >= MOST_ADDRESSES:
            self._forget(self._order.popleft())
        if len(self._order) >= 2 * MOST_ADDRESSES:  # half of them are forgotten already
            self._order = deque(known for known in self._order if self._known.get(known.address) is known)
        device = self._devices.get(hardware)
        if device is None:
            device = self._devices[hardware] = Device(hardware)
        known = self._known[address] = Neighbour(address, device, now)
        self._order.append(known)
        before = device.primary
        if address in self.near and address not in self._apart:
            if len(device.addresses) >= MOST_OF_A_DEVICE:
                oldest = device.addresses[0] if device.addresses[0] != device.primary else device.addresses[1]
                self._forget(self._known[oldest])
                self._devices[hardware] = device
            device.addresses.append(address)
            device.choose(self._own)
        return hardware in self.watched or bool(before) or bool(device.primary and device.primary != address)

    def _forget(self, known: Neighbour) -> None:
        if self._known.get(known.address) is not known:
            return
        del self._known[known.address]
        device = known.device
        if known.address in device.addresses:
            device.addresses.remove(known.address)
            device.choose(self._own)
        if not device.addresses:
            self._devices.pop(device.hardware, None)


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
