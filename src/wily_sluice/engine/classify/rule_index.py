"""Finds the candidate rules for a conversation among thousands, without evaluating each.

Bit vectors of Lakshman and Stiliadis (High-speed policy-based packet forwarding, 1998): the dimensions are local
address, remote address, protocol, local port and remote port. Each dimension is cut into intervals at every boundary of
a rule, and each interval has one bit for every rule that allows its values. The candidates are the conjunction of one
vector from each dimension, found by bisection.

A vector is a Python integer with rule 0 as its lowest bit. For n rules a look-up takes O(log n) steps and a few passes
over n bits, which is 1,250 bytes for ten thousand rules. Memory is O(n) bits per interval, at most n² / 4 bytes in a
dimension where every rule has a different range.

The index does not cover other fields (names, marks, schedules…). The caller evaluates the conditions of each candidate.
"""

from bisect import bisect_right

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import Parties

PortRanges = tuple[tuple[int, int], ...]


class Reach:
    """What of a rule an index can see; None where any value may do. `ports` are of either side."""

    __slots__ = ("local", "local_ports", "ports", "protocols", "remote", "remote_ports")

    def __init__(
        self,
        local: AddressSet | None = None,
        remote: AddressSet | None = None,
        protocols: frozenset[int] | None = None,
        ports: PortRanges | None = None,
        local_ports: PortRanges | None = None,
        remote_ports: PortRanges | None = None,
    ) -> None:
        self.local = local
        self.remote = remote
        self.protocols = protocols
        self.ports = ports
        self.local_ports = local_ports
        self.remote_ports = remote_ports


class AddressVectors:
    """One dimension of addresses, of one version of IP."""

    __slots__ = ("_starts", "_vectors")

    def __init__(self, rules: list[AddressSet | None], width: int) -> None:
        toggles: dict[int, int] = {0: 0}
        anywhere = 0
        for index, addresses in enumerate(rules):
            if addresses is None:
                anywhere |= 1 << index
                continue
            for first, last in addresses:
                if len(first) == width:
                    low, high = int.from_bytes(first, "big"), int.from_bytes(last, "big")
                    toggles[low] = toggles.get(low, 0) ^ 1 << index
                    toggles[high + 1] = toggles.get(high + 1, 0) ^ 1 << index
        starts = sorted(start for start in toggles if start < 1 << 8 * width)
        self._starts: list[bytes] = [start.to_bytes(width, "big") for start in starts]
        self._vectors: list[int] = []
        vector = anywhere
        for start in starts:
            vector ^= toggles[start]
            self._vectors.append(vector)

    def of(self, address: bytes) -> int:
        """The rules that allow an address."""
        return self._vectors[bisect_right(self._starts, address) - 1]


class PortVectors:
    """One dimension of ports."""

    __slots__ = ("_starts", "_vectors")

    def __init__(self, rules: list[PortRanges | None]) -> None:
        starts = {0}
        for ranges in rules:
            for first, last in ranges or ():
                starts |= {first, last + 1}
        self._starts: list[int] = sorted(starts)
        adds: dict[int, list[int]] = {}
        # Ranges of one rule may overlap, so its bit is counted and not flipped.
        for index, ranges in enumerate(rules):
            for first, last in _merged(ranges or ()):
                adds.setdefault(first, []).append(index)
                adds.setdefault(last + 1, []).append(index)
        vector = 0
        for index, ranges in enumerate(rules):
            if ranges is None:
                vector |= 1 << index
        self._vectors: list[int] = []
        for start in self._starts:
            for index in adds.get(start, ()):
                vector ^= 1 << index
            self._vectors.append(vector)

    def of(self, port: int) -> int:
        """The rules that allow a port."""
        return self._vectors[bisect_right(self._starts, port) - 1]


def _merged(ranges: PortRanges) -> list[tuple[int, int]]:
    merged: list[tuple[int, int]] = []
    for first, last in sorted(ranges):
        if merged and first <= merged[-1][1] + 1:
            merged[-1] = (merged[-1][0], max(merged[-1][1], last))
        else:
            merged.append((first, last))
    return merged


class RuleIndex:
    """An index over a list of rules, by the space each can match."""

    __slots__ = ("_either", "_local4", "_local6", "_local_ports", "_protocols", "_remote4", "_remote6", "_remote_ports")

    def __init__(self, rules: list[Reach]) -> None:
        self._local4 = AddressVectors([rule.local for rule in rules], 4)
        self._local6 = AddressVectors([rule.local for rule in rules], 16)
        self._remote4 = AddressVectors([rule.remote for rule in rules], 4)
        self._remote6 = AddressVectors([rule.remote for rule in rules], 16)
        self._local_ports = PortVectors([rule.local_ports for rule in rules])
        self._remote_ports = PortVectors([rule.remote_ports for rule in rules])
        self._either = PortVectors([rule.ports for rule in rules])
        self._protocols: list[int] = [0] * 256
        anything = 0
        listed: dict[int, int] = {}
        for index, rule in enumerate(rules):
            if rule.protocols is None:
                anything |= 1 << index
            else:
                for protocol in rule.protocols:
                    listed[protocol] = listed.get(protocol, 0) | 1 << index
        for protocol in range(256):
            self._protocols[protocol] = anything | listed.get(protocol, 0)

    def candidates(self, parties: Parties) -> int:
        """A bit for each rule that may match a conversation between these parties."""
        if len(parties.local) == 4:
            vector = self._local4.of(parties.local) & self._remote4.of(parties.remote)
        else:
            vector = self._local6.of(parties.local) & self._remote6.of(parties.remote)
        vector &= self._protocols[parties.protocol]
        if not vector:
            return 0
        vector &= self._local_ports.of(parties.local_port) & self._remote_ports.of(parties.remote_port)
        return vector & (self._either.of(parties.local_port) | self._either.of(parties.remote_port))
