"""How long packets wait, against arithmetic and against the simulation."""

from collections.abc import Callable
from pathlib import Path

import pytest

from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.why import waits
from wily_sluice.outside.files import load_traffic
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import MILLISECOND

CAPPED = (
    "calls: {guarantee: 20%, priority: 1}",
    "calls: {guarantee: 20%, priority: 1, cap: 30%}",
)  # so that something is left
FRAME = ETHERNET.cost(1500) * 8  # bits
TRAFFIC = """\
duration: 30 s
warmup: 10 s
lines: {line: {down: 20 Mbit/s, up: 10 Mbit/s, delay: 10 ms, buffer: 400 ms}}
applications:
  - {name: Slow, kind: upload, local: 10.7.0.9, remote: 203.0.113.6}
"""


def test_a_wait_is_never_shorter_than_the_frames_that_tcp_keeps_under_way(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(CAPPED, ("rest: {default: true}", "rest: {default: true, cap: 184 kbit/s}"))
    wait = waits(resolve(plan, plan.uplinks[0], "up"))["rest"]
    assert wait.settled == pytest.approx(2 * FRAME / 184_000 * 1e9, rel=0.001)  # 132 ms
    assert wait.full is not None
    assert wait.settled is not None
    assert wait.settled < wait.full


def test_the_simulation_waits_no_less_than_is_said(small_plan: Callable[..., Plan], tmp_path: Path) -> None:
    plan = small_plan(CAPPED, ("rest: {default: true}", "rest: {default: true, cap: 184 kbit/s}"))
    file = tmp_path / "traffic.yaml"
    file.write_text(TRAFFIC)
    wait = waits(resolve(plan, plan.uplinks[0], "up"))["rest"]
    measured = Lab(plan, load_traffic(file, plan), shaped=True).run().rows[0].measured
    beyond = (measured.p50 or 0) - 10 * MILLISECOND
    assert wait.settled is not None
    assert 0.8 * wait.settled < beyond < 2 * wait.settled


def test_where_a_leaf_is_full_before_codel_would_act_that_is_its_wait(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(CAPPED, ("down: 20 Mbit/s, up: 10 Mbit/s", "down: 100 Gbit/s, up: 100 Gbit/s"))
    wait = waits(resolve(plan, plan.uplinks[0], "up"))["rest"]
    assert wait.settled is None
    assert wait.full is not None
    assert wait.full < 5 * MILLISECOND
