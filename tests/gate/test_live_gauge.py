"""Lines whose figures are known, measured over real packets from one end to the other."""

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.gate.stillness import hold
from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.stores import MeasurementStore
from wily_sluice.outside.files import load
from wily_sluice.plan.file.framings import parse_stack
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built, gate_running
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
PLAN = """\
site: Measured
uplinks: {{line: {{interface: wan0, down: {down} Mbit/s, up: {up} Mbit/s, framing: ip}}}}
networks: {{house: {{interface: lan0, subnets: [10.7.0.0/24]}}}}
trees: {{main: {{queues: {{rest: {{default: true}}}}}}}}
"""


@contextmanager
def measured(folder: Path, down: int, up: int, delay: int, buffer: int, framing: str, *words: str) -> Iterator[Any]:
    """What is said of a line of so many Mbit/s, of a delay each way and a buffer in ms."""
    plan_file, key = folder / "plan.yaml", folder / "line.key"
    plan_file.write_text(PLAN.format(down=down + 3, up=up + 3))
    key.write_text("a key of the two machines\n")
    rig = Rig("measured")
    rig.down()
    stack = parse_stack(framing).framing
    figures = LineFigures(down * 10**6, up * 10**6, delay * MILLISECOND, buffer * MILLISECOND, stack)
    try:
        rig.up(Layout(load(plan_file), "measured", hosts=2), {"line": figures})
        program = [sys.executable, "-m", "wily_sluice", "gauge"]
        log = (folder / "serve.log").open("w+")
        serving = subprocess.Popen(rig.command("far", [*program, "serve", "--key", str(key)]), stderr=log)
        try:
            until = time.monotonic() + 20
            while "answering" not in (folder / "serve.log").read_text():
                assert time.monotonic() < until and serving.poll() is None
                time.sleep(0.1)
            CounterStore(folder / "state").close()  # as beside a gate
            options = [*words, "--state", str(folder / "state"), "--plan", str(plan_file), "--key", str(key), "--json"]
            command = rig.command("house", [*program, "line", FAR_ADDRESSES[0], *options])
            done = subprocess.run(command, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stderr
            yield json.JSONDecoder().raw_decode(done.stdout)[0]
        finally:
            serving.kill()
            serving.wait()
            log.close()
    finally:
        rig.down()


@pytest.mark.parametrize(
    ("down", "up", "delay", "buffer", "framing"),
    [
        (50, 10, 20, 200, "pppoe over ptm"),
        pytest.param(5, 1, 80, 800, "pppoa over atm vc", marks=pytest.mark.slow),
        pytest.param(5, 1, 40, 400, "pppoe over ptm", marks=pytest.mark.slow),
        pytest.param(180, 24, 9, 300, "ethernet", marks=pytest.mark.slow),
        pytest.param(50, 10, 5, 20, "ethernet", marks=pytest.mark.slow),
    ],
)
def test_rates_delays_buffer_and_framing_of_a_line_are_found(
    tmp_path: Path, down: int, up: int, delay: int, buffer: int, framing: str
) -> None:
    stack = parse_stack(framing).framing

    def misses() -> tuple[Any, dict[str, Any]]:
        """What is said of the line, and what of it is not so."""
        with measured(tmp_path, down, up, delay, buffer, framing, "--write", "--yes") as told:
            found = told["measurements"][0]
        assert found["whole"] and found["largest_packet"] == 1500
        right = {
            "rates": told["advice"]["rates"] == pytest.approx({"down": down * 1e6, "up": up * 1e6}, rel=0.03),
            "idle": found["idle"]["p50"]
            == pytest.approx(2 * delay * MILLISECOND, abs=MILLISECOND + 1544 * 8 * 1000 / up),
            "framings": any(parse_stack(fit["words"]).framing == stack for fit in found["framings"]),
        } | {way: found[way]["buffer"] == pytest.approx(buffer * MILLISECOND, rel=0.15) for way in ("down", "up")}
        return told, {
            part: told["advice"]["rates"] if part == "rates" else found[part] for part in right if not right[part]
        }

    told, _ = hold(misses, lambda found: not found[1])
    with closing(MeasurementStore(tmp_path / "state")) as store:
        kept = store.between(0, 1 << 40)[-1]
    assert {"down": kept.down, "up": kept.up} == pytest.approx(told["advice"]["rates"], rel=0.01)
    (uplink,) = load(tmp_path / "plan.yaml").uplinks
    assert {"down": uplink.down, "up": uplink.up} == told["advice"]["rates"]
    assert uplink.framing == parse_stack(told["advice"]["framing"]).framing


@pytest.mark.slow
@pytest.mark.parametrize("buffer", [20, 200])
def test_a_fast_line_is_found_as_well(tmp_path: Path, buffer: int) -> None:
    with measured(tmp_path, 500, 500, 5, buffer, "ethernet") as told:
        found = told["measurements"][0]
        assert told["advice"]["rates"] == pytest.approx({"down": 500e6, "up": 500e6}, rel=0.03)
        assert found["idle"]["p50"] == pytest.approx(10 * MILLISECOND, abs=MILLISECOND)
        for way in ("down", "up"):
            assert found[way]["buffer"] == pytest.approx(buffer * MILLISECOND, rel=0.15)


@pytest.mark.room
def test_a_line_is_not_measured_for_the_plan_through_the_gate_itself(tmp_path: Path) -> None:
    plan_file, key = tmp_path / "plan.yaml", tmp_path / "line.key"
    plan_file.write_text(PLAN.format(down=20, up=10))
    key.write_text("a key of the two machines\n")
    words = ["gauge", "line", FAR_ADDRESSES[0], "--key", str(key), "--plan", str(plan_file), "--write"]
    command = [sys.executable, "-m", "wily_sluice", *words]

    def said(rig: Rig) -> str:
        done = subprocess.run(rig.command("gateway", command), capture_output=True, text=True, check=False)
        assert done.returncode == 3
        return done.stderr

    with built(load(plan_file), "through", 5 * MILLISECOND) as rig:
        with gate_running(rig, plan_file):
            assert "shapes line on wan0" in said(rig) and "sluice gate stop" in said(rig)
        assert "nothing answers" in said(rig)  # no far end runs here, and now it would be measured
    assert plan_file.read_text() == PLAN.format(down=20, up=10)
