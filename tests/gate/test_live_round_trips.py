"""Round trips that the gate sees in passing, beside those that a sender of its own measures."""

import statistics
import time
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import SMALL_PLAN
from tests.gate.running import Running
from tests.gate.stillness import ATTEMPTS, hold
from wily_sluice.history.counter_store import CounterReader
from wily_sluice.history.counts import Key
from wily_sluice.outside.files import load
from wily_sluice.rig.trial import Host, built, finish, start_endpoint
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
DELAY = 23 * MILLISECOND
WORKER, CALLER = Host("house", "10.7.0.100"), Host("house", "10.7.0.101")


@pytest.mark.parametrize("way", ["down", "up"])
def test_round_trips_are_those_that_a_sender_measures(tmp_path: Path, way: str) -> None:
    """The gate holds packets back beside a load that fills the line; that wait is no part of the trip."""
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN)
    states = (tmp_path / f"state-{attempt}" for attempt in range(ATTEMPTS))

    def measure() -> dict[str, float]:
        state = next(states)
        with built(load(file), "trips", DELAY) as rig:
            gate = Running(rig, state, str(file)).wait()
            try:
                bulk = start_endpoint(rig, WORKER, "load", way, "--flows", 4, "--seconds", 8, "--warmup", 2)
                time.sleep(3)
                call = start_endpoint(rig, CALLER, "call", "--seconds", 3)
                seen: dict[str, list[int]] = {"beyond": [], "inside": []}
                for _ in range(10):
                    time.sleep(0.3)
                    trips = gate.call("watch.now")["hosts"].get(WORKER.address, {}).get("up", {}).get("round_trip", {})
                    for side, found in trips.items():
                        if found is not None:
                            seen[side].append(found)
                found = finish(call)
                finish(bulk)
            finally:
                gate.end()
        assert all(len(trips) >= 3 for trips in seen.values()), seen
        with closing(CounterReader(state)) as reader:
            kept = [
                counts[key].beyond
                for _, counts in reader.read("second", 0, 1 << 40)
                if (key := Key("host", "", "up", WORKER.address)) in counts
            ]
        # A call's packets have the first priority: they wait for one packet at most, on the line and in the gate.
        sent = statistics.median(found["up"]) + statistics.median(found["down"])
        kept_median = statistics.median(filter(None, kept))
        return {side: statistics.median(trips) for side, trips in seen.items()} | {"sent": sent, "kept": kept_median}

    def holds(trips: dict[str, float]) -> bool:
        beyond = pytest.approx(trips["sent"], rel=0.1, abs=MILLISECOND)
        return trips["beyond"] == beyond and trips["kept"] == beyond and trips["inside"] < 2 * MILLISECOND

    hold(measure, holds)
