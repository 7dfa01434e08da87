"""A service: the purpose of a conversation, such as call signalling, recognised by any one sign.

- its port on the local host was opened for the service
- its protocol is in `seen`
- a name of its remote is in `names`
- its remote port is in `ports`, or its remote address in `remote`

Ports and addresses are guesses. They stop counting if the service names its protocols (`seen`, or `over` for protocols
that may carry it) and the conversation speaks another one. If it has both keys, they also stop counting when the first
bytes match no known protocol. A service with a `shape` also requires that behaviour. A `shape` without other signs
matches conversations without a recognised protocol.
"""

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.known import Known
from wily_sluice.engine.classify.names import NameSet


class Service:
    """`ports` has the ranges of remote ports, first and last inside, for each protocol number."""

    __slots__ = ("name", "names", "over", "ports", "remote", "seen", "shape")

    def __init__(
        self,
        name: str,
        ports: dict[int, tuple[tuple[int, int], ...]] | None = None,
        seen: frozenset[str] = frozenset(),
        names: NameSet | None = None,
        remote: AddressSet | None = None,
        shape: str = "",
        over: frozenset[str] = frozenset(),
    ) -> None:
        self.name = name
        self.ports: dict[int, tuple[tuple[int, int], ...]] = ports or {}
        self.seen = seen
        self.names = names
        self.remote = remote
        self.shape = shape
        self.over = over

    def sign(self, parties: Parties, known: Known, shape: str) -> str:
        """Why the conversation is of this service, in words; empty when it is not."""
        if known.opened and known.opened == self.name:
            return "uses a port that was opened for it"
        if self.shape and shape != self.shape:
            return ""
        if known.seen and known.seen in self.seen:
            return f"speaks {known.seen}"
        if self.names is not None:
            name = self.names.any_of(known.names)
            if name:
                return f"is with {name}"
        if known.seen and known.seen not in self.over and (self.seen or self.over or self.shape):
            return ""
        if known.foreign and self.seen and self.over:
            return ""
        for first, last in self.ports.get(parties.protocol, ()):
            if first <= parties.remote_port <= last:
                return f"has port {parties.remote_port}"
        if self.remote is not None and parties.remote in self.remote:
            return "has its address"
        if self.shape and not (self.seen or self.ports or self.names is not None or self.remote is not None):
            return f"is {shape}"
        return ""
