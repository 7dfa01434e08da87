"""A line whose rate changes, on real packets: what a call waits, and how much of the line is used."""

import os
import signal
import subprocess
import time
from pathlib import Path

import numpy as np
import pytest

from tests.gate.running import Running
from tests.gate.stillness import hold
from wily_sluice import examples
from wily_sluice.engine.line import RateSchedule
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.forecast.lab.traffic import parse_course, read_course
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, start_endpoint
from wily_sluice.units import MILLISECOND, SECOND, Direction

pytestmark = pytest.mark.live
DELAY, BUFFER = 20 * MILLISECOND, 300 * MILLISECOND
LONGEST = 27  # seconds
# How a rate changes, in words or as a file; and when a call is held meanwhile, from three seconds after each step on.
COURSES: dict[str, tuple[object, tuple[tuple[int, int], ...]]] = {
    "steps": ({"0 s": "40 Mbit/s", "9 s": "12 Mbit/s", "18 s": "30 Mbit/s"}, ((3, 8), (12, 17), (21, 26))),
    "ramp": ({"0 s": "40 Mbit/s", "12 s": "to 10 Mbit/s", "24 s": "to 35 Mbit/s"}, ((3, 26),)),
    "still": ({"0 s": "20 Mbit/s"}, ((6, 16), (17, 26))),
    "series": ("saltmarsh-mobile.csv", ((7, 16), (20, 22))),  # it drops to half at 3.2 and at 16.8 s, to 0.66 at 22.4 s
}
PLAN = """\
site: Varying
uplinks:
  mobile: {interface: wan0, down: DOWN, up: UP, headroom: 2%, probe: [198.51.100.10]}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
trees: {main: {queues: {calls: {guarantee: 10%, priority: 1}, rest: {default: true}}}}
rules: [{protocol: udp, port: 7000, queue: calls}]
"""
WORKER, CALLER = Host("house", "10.7.0.100"), Host("house", "10.7.0.101")


def course_of(name: str) -> RateSchedule:
    said = COURSES[name][0]
    course = parse_course(said) if isinstance(said, dict) else read_course((examples.folder() / str(said)).read_text())
    assert isinstance(course, RateSchedule)
    return course


def measured(
    tmp_path: Path, way: Direction, rate: str, name: str = "steps", silent: bool = False, jitter: int = 0
) -> tuple[list[float], float]:
    """For each call, its p99 beyond the line's delay, in ms; and the part of what the line could carry that was
    carried. From the beginning on the far side is `silent` when it is asked for echoes.
    """
    course = course_of(name)
    file = tmp_path / "sluice.yaml"
    other = "40 Mbit/s"
    text = PLAN.replace("DOWN", rate if way == "down" else other).replace("UP", rate if way == "up" else other)
    file.write_text(text)
    plan = load(file)
    rig = Rig("varying")
    rig.down()
    framing = plan.uplinks[0].framing
    figures = LineFigures(40_000_000, 40_000_000, DELAY, BUFFER, framing, {way: course.points}, jitter)
    rig.up(Layout(plan, "varying", hosts=4), {"mobile": figures})
    try:
        gate = Running(rig, tmp_path / "state", str(file)).wait()
        span = ("--flows", 4, "--seconds", LONGEST, "--warmup", 4)
        loads = start_endpoint(rig, WORKER, "load", way, *span)
        time.sleep(4)
        begun = time.monotonic()
        if silent:
            words = ["iptables", "-w", "-A", "INPUT", "-p", "icmp", "-j", "DROP"]
            subprocess.run(rig.command("far", words), check=True)
        for process in rig.processes("line-mobile"):
            signal.pidfd_send_signal(os.pidfd_open(process), signal.SIGUSR1)
        waits = []
        for begin, end in COURSES[name][1]:
            time.sleep(max(0.0, begun + begin - time.monotonic()))
            call = finish(start_endpoint(rig, CALLER, "call", "--seconds", end - begin))
            waits.append((float(np.percentile(call[way], 99)) - DELAY) / MILLISECOND)
        goodput = finish(loads)["goodput"]
        steps = {
            one["event"]: one["after"]
            for one in gate.events()
            if one["event"].startswith(("uplink.slower", "uplink.faster"))
        }
        if name != "still":
            assert set(steps) == ({"uplink.slower", "uplink.faster"} if " to " in rate else set())
        assert all(6_000_000 <= after <= 40_000_000 for after in steps.values())
    finally:
        rig.down()
    could = course.bits(LONGEST * SECOND) / LONGEST
    return waits, goodput * framing.cost(1500) / SEGMENT / could


@pytest.mark.parametrize(
    ("name", "way"),
    [
        ("steps", "down"),
        pytest.param("steps", "up", marks=pytest.mark.slow),
        *(pytest.param(name, way, marks=pytest.mark.slow) for name in ("ramp", "series") for way in ("down", "up")),
    ],
)
def test_a_call_waits_little_and_most_of_a_line_is_used_whose_rate_changes(
    tmp_path: Path, name: str, way: Direction
) -> None:
    hold(
        lambda: measured(tmp_path, way, "6 to 40 Mbit/s" if name == "series" else "8 to 40 Mbit/s", name),
        lambda found: max(found[0]) < 40 and 0.85 < found[1] < 1.01,
    )


@pytest.mark.parametrize("way", ["down", pytest.param("up", marks=pytest.mark.slow)])
@pytest.mark.parametrize(("mean", "least"), [(2, 0.85), pytest.param(4, 0.8, marks=pytest.mark.slow)])
def test_jitter_is_no_queue(tmp_path: Path, way: Direction, mean: int, least: float) -> None:
    hold(
        lambda: measured(tmp_path, way, "8 to 40 Mbit/s", "still", jitter=mean * MILLISECOND),
        lambda found: max(found[0]) < 30 + 5 * mean and least < found[1] < 1.01,
    )


@pytest.mark.slow
def test_conversations_stand_in_where_the_remote_no_longer_answers(tmp_path: Path) -> None:
    hold(
        lambda: measured(tmp_path, "down", "8 to 40 Mbit/s", silent=True),
        lambda found: max(found[0]) < 40 and 0.85 < found[1] < 1.01,
    )


@pytest.mark.slow
@pytest.mark.parametrize(("rate", "worse"), [("40 Mbit/s", 0), ("12 Mbit/s", 1)])
def test_a_fixed_rate_is_worse_in_delay_or_in_use(tmp_path: Path, rate: str, worse: int) -> None:
    waits, used = measured(tmp_path, "down", rate)
    assert (max(waits) > 100, used < 0.6)[worse], (waits, used)
