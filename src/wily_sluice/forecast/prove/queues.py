"""Promises of queues: guarantees, caps, refusals, orders under strict parents, and delays."""

from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import NOTHING, Bench, queue_location, steered, with_queue
from wily_sluice.forecast.prove.proof import (
    FULL,
    SUPERFLUOUS,
    TOLERANCE,
    TREES,
    WITHIN,
    Flood,
    Judged,
    Promise,
    Proof,
    World,
    figure,
    rate_of,
)
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction, Nanoseconds, format_time, transmission_time


def guarantee_promises(bench: Bench) -> Iterator[Promise]:
    """Each queue gets its guarantee while all others flood; a parent, through the leaves below it."""
    for uplink, way in bench.ways():
        for queue in bench.spec(uplink, way).walk():
            if queue.path and queue.guarantee:
                yield _guarantee(bench, uplink, way, queue)


def _guarantee(bench: Bench, uplink: Uplink, way: Direction, queue: QueueSpec) -> Promise:
    tree, streams = bench.plan.tree(uplink, way), bench.full(uplink, way)
    asked = Flood(TREES, uplink.name, way, tuple(streams.values()))
    below = [list(streams).index(leaf.path) for leaf in queue.leaves()]
    least = queue.guarantee * (1 - TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), below)
        return Judged(rate >= least, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, queue.path, True, guarantee=NOTHING)
        rate = rate_of(bench.flood(asked, plan), below)
        return f"without it, {queue.path} gets {figure(rate)} by its priority and weight" if rate >= least else ""

    proof = Proof(
        "guarantee",
        queue.path,
        f"{uplink.name} {way}",
        queue_location(tree, queue.path, "guarantee"),
        f"at least {figure(queue.guarantee)} while all others flood",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)


def cap_promises(bench: Bench) -> Iterator[Promise]:
    """Each capped queue reaches exactly its cap on an idle line; a parent, through all leaves below it."""
    for uplink, way in bench.ways():
        tree = bench.plan.tree(uplink, way)
        capped = {queue.path for queue in tree.walk() if queue.cap.of(way) is not None}
        for queue in bench.spec(uplink, way).walk():
            if queue.path in capped and not queue.leaf.refused:
                yield _cap(bench, uplink, way, queue)


def _cap(bench: Bench, uplink: Uplink, way: Direction, queue: QueueSpec) -> Promise:
    tree, full = bench.plan.tree(uplink, way), bench.full(uplink, way)
    streams = tuple(full[leaf.path] for leaf in queue.leaves())
    asked = Flood(TREES, uplink.name, way, streams)
    below = range(len(streams))
    wanted = min(queue.cap, sum(leaf.cap for leaf in queue.leaves()))
    most = queue.cap * (1 + TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), below)
        return Judged(wanted * (1 - TOLERANCE) <= rate <= most, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, queue.path, cap=NOTHING)
        return SUPERFLUOUS if rate_of(bench.flood(asked, plan), below) <= most else ""

    proof = Proof(
        "cap",
        queue.path,
        f"{uplink.name} {way}",
        queue_location(tree, queue.path, "cap"),
        f"{figure(wanted)} on an idle line",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)


LEAST = 0.001  # of a line: as good as nothing


def refusal_promises(bench: Bench) -> Iterator[Promise]:
    """Each leaf that an uplink refuses gets nothing there, even on an idle line."""
    for uplink, way in bench.ways():
        for leaf in bench.spec(uplink, way).leaves():
            if leaf.leaf.refused:
                yield _refusal(bench, uplink, way, leaf)


def _refusal(bench: Bench, uplink: Uplink, way: Direction, leaf: QueueSpec) -> Promise:
    asked = Flood(TREES, uplink.name, way, (bench.full(uplink, way)[leaf.path],))
    least = LEAST * uplink.usable(way)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), (0,))
        return Judged(rate < least, figure(rate) if rate >= least else "nothing", rate)

    def control() -> str:
        plan = steered(bench.plan)
        plan = replace(plan, uplinks=tuple(replace(uplink, refuses=frozenset()) for uplink in plan.uplinks))
        return SUPERFLUOUS if rate_of(bench.flood(asked, plan), (0,)) < least else ""

    proof = Proof(
        "refusal",
        leaf.path,
        f"{uplink.name} {way}",
        ("uplinks", uplink.name, "refuses"),
        "nothing, even on an idle line",
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)


def order_promises(bench: Bench) -> Iterator[Promise]:
    """Each child of a strict parent, together with the next child."""
    for uplink, way in bench.ways():
        for parent in bench.spec(uplink, way).walk():
            if parent.children and parent.discipline == "strict":
                for first, then in pairwise(sorted(parent.children, key=lambda child: child.priority)):
                    if first.priority < then.priority:
                        yield _order(bench, uplink, way, parent, first, then)


def _order(
    bench: Bench, uplink: Uplink, way: Direction, parent: QueueSpec, first: QueueSpec, then: QueueSpec
) -> Promise:
    tree, full = bench.plan.tree(uplink, way), bench.full(uplink, way)
    streams = tuple(full[leaf.path] for child in (first, then) for leaf in child.leaves())
    asked = Flood(TREES, uplink.name, way, streams)
    mine = range(sum(1 for _ in first.leaves()))
    wanted = min(first.cap, parent.cap, sum(leaf.cap for leaf in first.leaves()))
    least = wanted * (1 - TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), mine)
        return Judged(rate >= least, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, first.path, priority=then.priority)
        rate = rate_of(bench.flood(asked, plan), mine)
        return f"with the priority of {then.path}, it gets {figure(rate)}" if rate >= least else ""

    proof = Proof(
        "order",
        first.path,
        f"{uplink.name} {way}",
        queue_location(tree, first.path, "priority"),
        f"{figure(wanted)} while {then.path} floods",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)


SENT = 0.9  # of its guarantee, so that the delay is owed


def delay_promises(bench: Bench) -> Iterator[Promise]:
    """Each leaf with a delay keeps it, within its guarantee, while all others flood."""
    for uplink, way in bench.ways():
        for leaf in bench.spec(uplink, way).leaves():
            if leaf.leaf.delay is not None:
                yield _delay(bench, uplink, way, leaf, leaf.leaf.delay)


def _delay(bench: Bench, uplink: Uplink, way: Direction, leaf: QueueSpec, delay: Nanoseconds) -> Promise:
    tree, streams = bench.plan.tree(uplink, way), bench.full(uplink, way)
    mine = replace(streams.pop(leaf.path), rate=max(1, round(leaf.guarantee * SENT)))
    asked = Flood(TREES, uplink.name, way, (mine, *streams.values()))
    most = delay + transmission_time(uplink.framing.cost(FULL), uplink.usable(way))

    def judge(world: World) -> Judged:
        came = world.flood(asked)[0]
        return Judged(came.longest <= most + world.slack, format_time(came.longest), came.rate, came.p95)

    def control() -> str:
        queue = next(each for each in tree.walk() if each.path == leaf.path)
        plan = with_queue(steered(bench.plan), tree, leaf.path, leaf=replace(queue.leaf, delay=None), guarantee=NOTHING)
        return SUPERFLUOUS if bench.flood(asked, plan)[0].longest <= most else ""

    proof = Proof(
        "delay",
        leaf.path,
        f"{uplink.name} {way}",
        queue_location(tree, leaf.path, "delay"),
        f"no packet waits over {format_time(most)}",
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)
