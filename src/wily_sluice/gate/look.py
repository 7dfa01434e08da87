"""The running engine's knowledge of one conversation: a look at its table without cost for packets."""

from typing import NamedTuple

from wily_sluice.engine.classify.known import NOTHING
from wily_sluice.engine.limit.limiter import limiters_of
from wily_sluice.engine.site import SiteEngine
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
        lane = conversation.up_lane if direction == "up" else conversation.down_lane
        if lane is not None and lane.shaper in uplinks:
            limiters = limiters_of(lane)
            going.append(Going(uplinks[lane.shaper], direction, lane.leaf.path, lane.tally.rule, limiters))
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
