"""Bounds the rate of new conversations, against floods and scans.

Opening a conversation costs about ten times as much as a packet of an open one. So at most NEW_FLOWS may open per
second, with a burst of FIRST_NEW_FLOWS. Beside these, each device on the gateway's links may open OWN_NEW_FLOWS, so
that a flood keeps nobody else from opening some; at most MOST_DEVICES are told apart. Packets beyond that belong to a
*stand-in*: one conversation for a local host and protocol, or for a network if there are too many hosts too. A stand-in
has no ports and no remote and is not recognised. Rules and limiters for the host or the network apply to it. A
conversation that keeps sending is opened soon, because each of its packets asks again.

The local address of a network's stand-in is its stranger's (`neighbours.Home`).
"""

from typing import Final

from wily_sluice.engine.classify.header import is_ipv6
from wily_sluice.engine.classify.neighbours import Home, Neighbours
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.units import SECOND, Nanoseconds

NEW_FLOWS: Final = 1000  # a second
FIRST_NEW_FLOWS: Final = 4000
OWN_NEW_FLOWS: Final = 40
FIRST_OWN: Final = 120
MOST_DEVICES: Final = 1024
NEW_DEVICES: Final = 5  # a second
FIRST_DEVICES: Final = 300
HOSTS: Final = 500  # stand-ins of hosts, a second
FIRST_HOSTS: Final = 1000
MOST_STAND_INS: Final = 4096  # of which the oldest is forgotten first
_NOBODY4: Final = bytes(8)  # of a key: remote address and ports
_NOBODY6: Final = bytes(20)


class Pace:
    """So many a second, and so many more after a quiet while."""

    __slots__ = ("_burst", "_clock", "_step")

    def __init__(self, rate: int, burst: int) -> None:
        self._step: Nanoseconds = SECOND // rate
        self._burst: Nanoseconds = self._step * burst
        self._clock: Nanoseconds = 0

    def allows(self, now: Nanoseconds) -> bool:
        """Whether another one is allowed now; if so, it is counted."""
        behind = now - self._burst
        if self._clock < behind:
            self._clock = behind
        if self._clock > now:
            return False
        self._clock += self._step
        return True


class AggregateFlow:
    """`homes` are the site's networks, `neighbours` their devices. `packets` counts packets that used a stand-in."""

    __slots__ = ("_devices", "_found", "_homes", "_hosts", "_neighbours", "_new_devices", "_new_flows", "packets")

    def __init__(self, homes: tuple[Home, ...] = (), neighbours: Neighbours | None = None) -> None:
        self._homes = homes
        self._neighbours = neighbours
        self._devices: dict[bytes, Pace] = {}
        self._new_devices = Pace(NEW_DEVICES, FIRST_DEVICES)
        self._new_flows = Pace(NEW_FLOWS, FIRST_NEW_FLOWS)
        self._hosts = Pace(HOSTS, FIRST_HOSTS)
        self._found: dict[bytes, Conversation] = {}
        self.packets = 0

    def may_open(self, key: bytes, now: Nanoseconds) -> bool:
        """Whether one more conversation may open now, with this key."""
        if self._neighbours is not None:
            device = self._neighbours.hardware(key[1:17] if is_ipv6(key) else key[1:5])
            own = self._own(device, now) if device is not None else None
            if own is not None and own.allows(now):
                return True
        return self._new_flows.allows(now)

    def _own(self, device: bytes, now: Nanoseconds) -> Pace | None:
        """The pace of a device; None for one too many: who writes a new hardware address into each packet has none."""
        own = self._devices.pop(device, None)
        if own is None:
            if not self._new_devices.allows(now):
                return None
            if len(self._devices) >= MOST_DEVICES:
                del self._devices[next(iter(self._devices))]  # the one that was silent longest
            own = Pace(OWN_NEW_FLOWS, FIRST_OWN)
        self._devices[device] = own
        return own

    def succeed(self, before: "AggregateFlow") -> None:
        """Go on where another one was."""
        self._new_flows, self._hosts, self.packets = before._new_flows, before._hosts, before.packets
        self._devices, self._new_devices = before._devices, before._new_devices

    def stand_in(self, key: bytes, now: Nanoseconds, home: Home | None = None) -> Conversation:
        """The stand-in for a packet whose conversation, of this key, may not open. `home` is the local network
        of the packet, if that is known otherwise than by its address.
        """
        self.packets += 1
        own = key[:17] + _NOBODY6 if is_ipv6(key) else key[:5] + _NOBODY4
        stand_in = self._found.get(own)
        if stand_in is None:
            if not self._hosts.allows(now):
                end = 17 if is_ipv6(key) else 5
                local = self._stranger(key[1:end], home)
                own = key[:1] + local + (_NOBODY4 if len(local) == 4 else _NOBODY6)
                stand_in = self._found.get(own)
            if stand_in is None:
                if len(self._found) >= MOST_STAND_INS:
                    del self._found[next(iter(self._found))]
                stand_in = self._found[own] = Conversation(own)
                stand_in.unknown = False
        return stand_in

    def _stranger(self, local: bytes, home: Home | None) -> bytes:
        """The address of the stand-in of the network that an address is in; the unspecified one where it is in none."""
        if home is not None:
            return home.stranger(len(local))
        for network in self._homes:
            if local in network.addresses:
                return network.stranger(len(local))
        return bytes(len(local))
