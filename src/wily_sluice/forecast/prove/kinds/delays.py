"""Each leaf with a delay keeps it, within its guarantee, while all others flood."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.forecast.prove.bench import (
    NOTHING,
    Bench,
    queue_location,
    with_queue,
    without_limiters,
)
from wily_sluice.forecast.prove.flood import FULL
from wily_sluice.forecast.prove.proof import UNTRIED, Proof, verdict_of
from wily_sluice.units import format_time, transmission_time

WITHIN = 0.9  # of its guarantee that a leaf with a delay sends, so that the delay is owed


def prove(bench: Bench) -> Iterator[Proof]:
    """Each leaf with a delay keeps it, within its guarantee, while all others flood."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        tree, streams = plan.tree(uplink, way), bench.full_streams(uplink, way)
        for leaf in bench.spec(uplink, way).leaves():
            delay = leaf.leaf.delay
            if delay is None:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "delay")
            packet = transmission_time(uplink.framing.cost(FULL), uplink.usable(way))
            expected = f"no packet waits over {format_time(delay + packet)}"
            if leaf.path not in streams:
                yield Proof("delay", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            mine = replace(streams[leaf.path], rate=max(1, round(leaf.guarantee * WITHIN)))
            sent = [mine, *(stream for path, stream in streams.items() if path != leaf.path)]
            longest = bench.flood(uplink, way, sent, plan)[0].longest
            queue = next(one for one in tree.walk() if one.path == leaf.path)
            control = with_queue(plan, tree, leaf.path, leaf=replace(queue.leaf, delay=None), guarantee=NOTHING)
            other = bench.flood(uplink, way, sent, control)[0].longest
            verdict, why = verdict_of(longest <= delay + packet, other <= delay + packet)
            yield Proof("delay", leaf.path, where, at, expected, format_time(longest), verdict, why)
