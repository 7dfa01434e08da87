"""What the gate tells about conversations: what it knows of one, and the names that hosts contacted.

Which names hosts spoke with, gathered until they are taken; only where the plan asks for that.

A name comes from the conversation's own opening, or from the answer of DNS that gave its address; so a name that was
only asked for is not here.
"""

from collections.abc import Iterator
from typing import NamedTuple

from wily_sluice.engine.classify.neighbours import Neighbours
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.limiter import limiters_of
from wily_sluice.engine.site import SiteEngine
from wily_sluice.plan.file.words import hardware_text
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, Direction, Size


class Going(NamedTuple):
    """The queue of its packets in one direction. `rule` is empty for the default."""

    uplink: str
    direction: Direction
    queue: str
    rule: str
    limiters: tuple[str, ...]


class Look(NamedTuple):
    """`dscps` are the DSCPs that it carried, as bits; `moved`, in bytes, and `shape` where the plan asks for them."""

    seen: str
    likely: str
    names: tuple[str, ...]
    evidence: tuple[str, ...]
    dscps: int
    moved: Size | None
    shape: str
    going: tuple[Going, ...]


def look_at(engine: SiteEngine, key: bytes) -> Look | None:
    """Of the conversation with this key (`engine.classify.header`); None when it is not open."""
    conversation = engine.conversations.peek(key)
    if conversation is None:
        return None
    uplinks = {shaper: uplink for (uplink, _), shaper in engine.shapers.items()}
    going = []
    for direction in DIRECTIONS:
        flow_path = conversation.up_path if direction == "up" else conversation.down_path
        if flow_path is not None and flow_path.shaper in uplinks:
            limiters = limiters_of(flow_path)
            going.append(
                Going(uplinks[flow_path.shaper], direction, flow_path.leaf.path, flow_path.tally.rule, limiters)
            )
    known, watch = conversation.known or NOTHING, conversation.watch
    return Look(
        known.seen,
        known.likely,
        known.names,
        known.evidence,
        conversation.dscps,
        watch.moved if watch is not None else None,
        watch.shape if watch is not None else "",
        tuple(going),
    )


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
        pairs, self._found = sorted(self._found), set()
        return pairs


MOST_TOLD = 32  # devices: whoever makes up hardware addresses fills no log


def shared_devices(plan: Plan, neighbours: Neighbours, told: set[bytes]) -> Iterator[dict[str, str | int]]:
    """The devices with many addresses of IPv4 that have not been told of, MOST_TOLD at most; they are then."""
    for hardware, address, many in neighbours.shared():
        network = next((network for network in plan.networks if address in network.addresses), None)
        if hardware not in told and network is not None and len(told) < MOST_TOLD:
            told.add(hardware)
            yield {"network": network.name, "device": hardware_text(hardware), "addresses": many}
