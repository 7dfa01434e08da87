"""Sorts a conversation: into one queue by the first rule that matches, and under every limiter that matches.

Called once for a conversation, and again only when one of its packets carries a new DSCP; so the cost of a packet does
not depend on how many rules there are.
"""

from dataclasses import dataclass, field

from wily_sluice.engine.addresses import AddressSet
from wily_sluice.engine.conversation import Conversation
from wily_sluice.engine.header import Parties
from wily_sluice.engine.neighbours import Neighbours


@dataclass(frozen=True, slots=True)
class Match:
    """What a conversation must be. Every field that is set must hold; None is any.

    The local party is meant by its address, or where `local` is set by its `hardware` address.
    `ports` are ranges, first and last inside, of which the local or the remote port must lie in one. `dscps` are bits:
    the conversation must have carried one of these marks, in either direction.
    """

    local: AddressSet | None = None
    hardware: frozenset[bytes] = frozenset()
    remote: AddressSet | None = None
    protocols: frozenset[int] | None = None
    ports: tuple[tuple[int, int], ...] | None = None
    dscps: int | None = None

    def holds(self, parties: Parties, marks: int, hardware: bytes | None = None) -> bool:
        """Whether a conversation between these parties is meant, which has carried these marks.

        `hardware` is the local party's own address, where it is known.
        """
        return (
            (self.protocols is None or parties.protocol in self.protocols)
            and (self.local is None or parties.local in self.local or hardware in self.hardware)
            and (self.remote is None or parties.remote in self.remote)
            and (
                self.ports is None
                or any(a <= parties.local_port <= b or a <= parties.remote_port <= b for a, b in self.ports)
            )
            and (self.dscps is None or bool(self.dscps & marks))
        )


@dataclass(frozen=True, slots=True)
class Sorter:
    """Rules in their order, each with the index of its leaf; the default leaf; and whom each limiter names."""

    rules: tuple[tuple[Match, int], ...]
    default: int
    limiters: tuple[Match, ...] = ()
    neighbours: Neighbours = field(default_factory=Neighbours)

    @property
    def watches_marks(self) -> bool:
        """Whether a packet's DSCP can change what its conversation is sorted to."""
        return any(match.dscps is not None for match in (*(m for m, _ in self.rules), *self.limiters))

    def rule(self, conversation: Conversation) -> int | None:
        """The index of the first rule that matches."""
        parties, marks = conversation.parties, conversation.marks
        hardware = self.neighbours.hardware(parties.local)
        for index, (match, _) in enumerate(self.rules):
            if match.holds(parties, marks, hardware):
                return index
        return None

    def leaf(self, conversation: Conversation) -> int:
        """The index of the leaf that the conversation goes to."""
        rule = self.rule(conversation)
        return self.default if rule is None else self.rules[rule][1]

    def limits(self, conversation: Conversation) -> list[int]:
        """The indices of all limiters that name the conversation."""
        parties, marks = conversation.parties, conversation.marks
        hardware = self.neighbours.hardware(parties.local)
        return [index for index, match in enumerate(self.limiters) if match.holds(parties, marks, hardware)]
