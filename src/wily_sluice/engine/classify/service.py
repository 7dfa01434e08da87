"""A service: what a conversation is for, such as call signalling, recognised by its signs.

A conversation is of a service when any of its signs is there:

- it goes by a port of the local host that was opened for the service;
- it was seen to speak one of the protocols in `seen`;
- a name of its remote is among `names`;
- its remote port is among `ports`, or its remote address in `remote`.

Ports and addresses are guesses. Where the service says what it speaks (`seen`), or what it may be wrapped in (`over`,
such as `tls`), and the conversation was seen to speak something else, they count no longer; nor do they where it says
both, and the conversation's beginning was seen to be none of what can be recognised. And where the service has a
`shape`, the conversation must behave so; a shape alone, without any other sign, is a sign, unless the conversation was
seen to speak something.
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
