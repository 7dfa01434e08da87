"""Promises tried on real packets: a sound gate keeps them all, as in the lab, and one that is not is found out."""

import json
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

import pytest

from tests.forecast.sabotage import PLAN, ROUTED, Key
from tests.gate.sabotaged import BROKEN
from wily_sluice import examples
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.promises import promises
from wily_sluice.forecast.prove.proof import Proof
from wily_sluice.outside.files import load
from wily_sluice.rig.promises.prove import prove_on_rig

pytestmark = pytest.mark.live
OFTEN = ("half a guarantee", "one host free", "no IPv6")  # tried each time


def agree(lab: Sequence[Proof], rig: Sequence[Proof]) -> None:
    for simulated, real in zip(lab, rig, strict=False):
        assert real.verdict == simulated.verdict, real
        if simulated.rate is not None and real.rate is not None:
            assert real.rate == pytest.approx(simulated.rate, rel=0.03), real
        if simulated.p95 is not None and real.p95 is not None:
            assert abs(real.p95 - simulated.p95) <= max(2_000_000, 0.2 * simulated.p95), real


def tried(file: Path, program: Sequence[str] | None = None) -> tuple[list[Proof], list[Proof]]:
    bench = Bench(load(file))
    return prove_on_rig(bench, promises(bench), file, lambda _: None, program)


@pytest.fixture
def plan_file(tmp_path: Path) -> Path:
    file = tmp_path / "promises.yaml"
    file.write_text(PLAN)
    return file


def test_the_rig_says_what_the_lab_says(plan_file: Path) -> None:
    lab, rig = tried(plan_file)
    assert len(rig) == len(lab) + 1 and rig[-1].kind == "failure"
    assert not [one for one in rig if one.verdict == "broken"]
    agree(lab, rig)


@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=() if name in OFTEN else pytest.mark.slow) for name in BROKEN]
)
def test_a_gate_that_does_not_keep_a_promise_is_found_out(plan_file: Path, name: str) -> None:
    _, rig = tried(plan_file, [sys.executable, "-m", "tests.gate.sabotaged", name])
    broken: set[Key] = {(one.kind, one.name, one.where) for one in rig if one.verdict == "broken"}
    assert {key for key in broken if key[0] != "boundary"} == BROKEN[name]


@pytest.mark.parametrize("name", ["routes", "no routes"])
def test_routes_are_tried_on_real_lines_and_cuts_of_them(tmp_path: Path, name: str) -> None:
    file = tmp_path / "routed.yaml"
    file.write_text(ROUTED)
    bench = Bench(load(file))
    asked = [one for one in promises(bench) if one.proof.kind in ("route", "takeover")]
    program = [sys.executable, "-m", "tests.gate.sabotaged", name] if name == "no routes" else None
    lab, rig = prove_on_rig(bench, asked, file, lambda _: None, program)
    broken = {(one.kind, one.name) for one in rig if one.verdict == "broken"}
    if name == "no routes":
        led = {("route", other) for other in ("Calls", "Shared", "Own", "Evening")}
        assert broken == led | {("takeover", "Rest")}
    else:
        assert not broken and rig[-1].kind == "failure"
        assert [one.name for one in rig if one.verdict == "not tried"] == ["Office"]  # a rig has no tunnel
        agree(*([one for one in found if one.name != "Office"] for found in (lab, rig)))


@pytest.mark.slow
def test_the_demo_is_proven_on_real_packets_in_two_minutes() -> None:
    file = Path(examples.__file__).with_name("saltmarsh.yaml")
    begun = time.monotonic()
    command = [sys.executable, "-m", "wily_sluice", "prove", "--rig", "--json", str(file)]
    found = subprocess.run(command, capture_output=True, text=True, check=False)
    assert found.returncode == 0, found.stderr
    assert time.monotonic() - begun < 130
    told = json.loads(found.stdout)
    assert told["tried"] == "rig" and {one["verdict"] for one in told["promises"]} == {"kept", "proves nothing"}
