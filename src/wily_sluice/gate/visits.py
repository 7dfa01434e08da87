"""Which names hosts spoke with, gathered until they are taken; only where the plan asks for that.

A name comes from the conversation's own opening, or from the answer of DNS that gave its address; so a name that was
only asked for is not here.
"""

from wily_sluice.engine.classify.known import Known
from wily_sluice.engine.conversations.conversation import Conversation

MOST = 10_000  # between two takings


class Visits:
    """Of all hosts."""

    def __init__(self) -> None:
        self._found: set[tuple[bytes, str]] = set()

    def note(self, conversation: Conversation, known: Known | None) -> None:
        """Record the names that a conversation contacted."""
        if known is not None and known.names and len(self._found) < MOST:
            self._found.add((conversation.parties.local, known.names[0]))

    def take(self) -> list[tuple[bytes, str]]:
        """Hosts, by their packed addresses, with names, each pair once."""
        found, self._found = sorted(self._found), set()
        return found
