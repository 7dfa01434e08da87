"""Promises tried on a gate that runs, as a person would: from beside it, with a far end beyond the line."""

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.gate.running import Running
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
PLAN = """\
site: Running
uplinks:
  line: {interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
  guests: {interface: lan1, subnets: [10.7.1.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1, cap: 50%}
      work: {guarantee: 30%}
      far: {guarantee: 10%}
      rest: {default: true}
limiters:
  guest: {local: guests, per: host, down: 2 Mbit/s}
rules:
  - {name: Calls, local: house, protocol: udp, port: 5004-5005, queue: calls}
  - {name: Work, local: house, port: [8443/tcp, 5000/udp], queue: work}
  - {name: Far, remote: 192.0.2.200, queue: far}
"""
HOST = FAR_ADDRESSES[0]


@contextmanager
def proven(folder: Path, up: int) -> Iterator[Any]:
    """What `prove --live` says, and its exit status, of a gate on a line of so many Mbit/s up."""
    plan_file, key = folder / "plan.yaml", folder / "line.key"
    plan_file.write_text(PLAN)
    key.write_text("a key of the two machines\n")
    plan = load(plan_file)
    rig = Rig("running")
    rig.down()
    framing = plan.uplinks[0].framing
    program = [sys.executable, "-m", "wily_sluice"]
    try:
        lines = {"line": LineFigures(20 * 10**6, up * 10**6, 10 * MILLISECOND, 200 * MILLISECOND, framing)}
        rig.up(Layout(plan, "running", hosts=4), lines)
        gate = Running(rig, folder / "state", "--plan", str(plan_file)).wait()
        log = (folder / "serve.log").open("w+")
        words = ["gauge", "serve", "--proofs", "100Mbit/s", "--key", str(key)]
        serving = subprocess.Popen(rig.command("far", [*program, *words]), stderr=log)
        try:
            until = time.monotonic() + 20
            while "answering" not in (folder / "serve.log").read_text():
                assert time.monotonic() < until and serving.poll() is None
                time.sleep(0.1)
            words = ["prove", "--live", HOST, "--key", str(key), "--plan", str(plan_file), "--yes", "--json"]
            command = rig.command("gateway", [*program, *words])
            done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=240)
            assert done.stdout, done.stderr
            told = json.loads(done.stdout)
            assert told["tried"] == "live"
            yield {(one["promise"], one["name"], one["where"]): one for one in told["promises"]}, done.returncode
        finally:
            serving.kill()
            serving.wait()
            log.close()
            gate.end()
        left = subprocess.run(rig.command("gateway", ["ip", "-o", "link"]), capture_output=True, text=True, check=True)
        assert "sluice-probe" not in left.stdout
    finally:
        rig.down()


def test_a_gate_that_runs_keeps_what_its_plan_promises(tmp_path: Path) -> None:
    with proven(tmp_path, up=10) as (found, status):
        assert status == 0
    verdicts = {key: one["verdict"] for key, one in found.items()}
    assert "broken" not in verdicts.values(), [one for one in found.values() if one["verdict"] == "broken"]
    for key in (
        ("guarantee", "work", "line up"),
        ("guarantee", "work", "line down"),
        ("cap", "calls", "line up"),
        ("cap", "calls", "line down"),
        ("limiter", "guest", "line down"),
        ("rule", "Calls", "line"),
        ("rule", "Work", "line"),
        ("default", "rest", "line"),
    ):
        assert verdicts[key] == "kept", found[key]
    assert found["cap", "calls", "line down"]["rate"] == pytest.approx(9e6, rel=0.03)
    assert (
        found["rule", "Far", "line"]["verdict"] == "not tried" and "192.0.2.200" in found["rule", "Far", "line"]["why"]
    )
    assert "no UDP conversation for far" in found["guarantee", "far", "line up"]["why"]


@pytest.mark.slow
def test_a_line_that_is_slower_than_the_plan_breaks_guarantees(tmp_path: Path) -> None:
    """The queue then forms beyond the gate, where nobody goes first."""
    with proven(tmp_path, up=5) as (found, status):
        assert status == 1
    assert found["guarantee", "work", "line up"]["verdict"] == "broken"
    assert found["guarantee", "work", "line down"]["verdict"] == "kept"
