"""All promises of a plan on real packets."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.proof import (
    TREES,
    Flood,
    Judged,
    Promise,
    Proof,
    World,
    figure,
    try_in,
)
from wily_sluice.rig.promises.recorded import Listener, Tried
from wily_sluice.rig.promises.world import RigWorld, rig_world
from wily_sluice.units import format_rate

FLOODED = 2.0  # times what the line is shaped to, when no gate is there


def prove_on_rig(
    bench: Bench,
    promises: Iterable[Promise],
    plan_file: Path,
    tell: Callable[[str], None],
    program: Sequence[str] | None = None,
    failing: bool = True,
) -> tuple[list[Proof], list[Proof]]:
    """Results in the lab and on the rig; with `failing`, also for a killed gate. LiveError if a rig is impossible."""
    listener = Listener(bench)
    tell("in the lab …")
    promises = list(promises)
    lab = [try_in(listener, promise) for promise in promises]
    tell("building the site from network namespaces …")
    flooded = {**listener.asked, _to_fail(bench): None}
    with rig_world(bench, plan_file, flooded, program) as world:
        tried = Tried(world.try_all(listener.asked, tell))
        proofs = [_tried(tried, promise, proof) for promise, proof in zip(promises, lab, strict=True)]
        broken = [number for number, proof in enumerate(proofs) if proof.verdict == "broken"]
        if broken:  # by the plan, or by a moment in which this machine did something else
            again = Listener(bench)
            for number in broken:
                try_in(again, promises[number])
            tell(f"trying {len(broken)} again …")
            tried = Tried(world.try_all(again.asked, tell))
            for number in broken:
                proofs[number] = _tried(tried, promises[number], lab[number])
        if failing:
            tell("killing the gate …")
            proofs.append(_fails_open(bench, world))
    return lab, proofs


def _tried(world: World, promise: Promise, lab: Proof) -> Proof:
    """On the rig; without what makes the promise, the lab has tried it."""
    if lab.verdict == "not tried":
        return lab
    known = lab.why if lab.verdict == "proves nothing" else ""
    proof = try_in(world, replace(promise, control=lambda: known))
    return replace(proof, tolerance="2 ms") if promise.proof.kind == "delay" else proof


def _to_fail(bench: Bench) -> Flood:
    """A stream that must pass when the gate has been killed."""
    uplink = bench.plan.uplinks[0]
    return Flood(TREES, uplink.name, "up", (next(iter(bench.full(uplink, "up").values())),))


def _fails_open(bench: Bench, world: RigWorld) -> Proof:
    uplink = bench.plan.uplinks[0]
    usable = uplink.usable("up")
    rate = world.bypassed(_to_fail(bench), round(usable * FLOODED))
    judged = Judged(rate > usable * FLOODED * 0.9, figure(rate), rate)
    return Proof(
        "failure",
        "the gate is killed",
        f"{uplink.name} up",
        ("uplinks", uplink.name),
        f"{format_rate(round(usable * FLOODED))} bypass the gate",
        judged.measured,
        "kept" if judged.kept else "broken",
        "",
        "10%",
        uplink.name,
        rate,
    )
