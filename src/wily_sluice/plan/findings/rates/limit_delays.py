"""A limit that lets packets wait for a second or more."""

from collections.abc import Iterator

from wily_sluice.plan.build import leaf_limit
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.units import SECOND, format_size, format_time, transmission_time

LONG = SECOND


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf with a limit of bytes, without anything that keeps its queue short, in each tree as it is used."""
    for tree, _, way, root in checked.uses:
        for leaf in root.leaves():
            held = leaf.leaf.aqm == "fifo" and leaf.leaf.most_bytes is not None
            wait = transmission_time(leaf_limit(leaf), leaf.cap) if held else 0
            if wait >= LONG:
                message = f"holds up to {format_size(leaf_limit(leaf))}: {format_time(wait)} {way}, even at its cap"
                yield Told(
                    (*queue_location(tree.name, leaf.path), "limit"),
                    message,
                    "write a time, such as `limit: 100 ms`, or `aqm: fq-codel`",
                )


KIND = Kind(
    "limit-delays",
    "warning",
    find,
    once=True,
    story="""\
The first long transfer fills a first-in-first-out queue, and from then on every packet waits for all the packets
ahead. A limit in bytes is a delay at the queue's rate.
""",
    has="""\
trees:
  main:
    queues:
      rest: {aqm: fifo, limit: 8 MB}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {aqm: fifo, limit: 500 kB}
""",
)
