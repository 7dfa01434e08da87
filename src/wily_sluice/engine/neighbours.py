"""Which hardware address (IEEE 802) each local address has, learnt from the packets that hosts send.

A host that is named by its hardware address is meant whatever IP address it has at the moment, in both directions.
"""


class Neighbours:
    """`watched` are the hardware addresses that matter to anybody."""

    __slots__ = ("_hardware", "watched")

    def __init__(self, watched: frozenset[bytes] = frozenset()) -> None:
        self.watched = watched
        self._hardware: dict[bytes, bytes] = {}

    def follow(self, before: "Neighbours") -> None:
        """Go on with what others have learnt."""
        self._hardware = {ip: hardware for ip, hardware in before._hardware.items() if hardware in self.watched}

    def hardware(self, address: bytes) -> bytes | None:
        """The hardware address of a watched host that has this IP address; None for all others."""
        return self._hardware.get(address)

    def learn(self, address: bytes, hardware: bytes) -> bool:
        """Take note of who sent from an address. True when a watched host has come to it, or has left it."""
        known = self._hardware.get(address)
        if hardware in self.watched:
            self._hardware[address] = hardware
            return known != hardware
        if known is not None:
            del self._hardware[address]
            return True
        return False
