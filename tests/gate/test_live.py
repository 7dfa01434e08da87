"""The gate on real packets: kernel TCP between namespaces, a simulated line, and what a person would measure."""

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import SMALL_PLAN
from tests.gate.stillness import hold
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.errors import LiveError
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import Layout
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import CallResult, Host, built, call_result, finish, gate_running, start_endpoint
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live

# 20 Mbit/s usable each way on a line of 25 with a buffer of 300 ms.
PLAN = (
    SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", "down: 25 Mbit/s, up: 25 Mbit/s, headroom: 20%")
    .replace("down: 2 Mbit/s}", "down: 4 Mbit/s, up: 4 Mbit/s}")
    .replace("port: 5004-5005", "port: 7000")
)
USABLE = 20_000_000
DELAY = 10 * MILLISECOND
# A packet of 1500 carries 1448 bytes of data over IPv4, 1428 over IPv6, in a frame of 1518.
MOST = {"10.7.0.100": USABLE * SEGMENT / 1518, "fd07::64": USABLE * (SEGMENT - 20) / 1518}
WORKER, WORKER6 = Host("house", "10.7.0.100"), Host("house", "fd07::64")
CALLER = Host("house", "10.7.0.101")
GUESTS = (Host("guests", "10.7.1.100"), Host("guests", "10.7.1.101"))


@pytest.fixture(scope="module")
def plan_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    file = tmp_path_factory.mktemp("live") / "sluice.yaml"
    file.write_text(PLAN)
    return file


@pytest.fixture(scope="module")
def rig(plan_file: Path) -> Iterator[Rig]:
    with built(load(plan_file), f"test{os.getpid()}", DELAY) as standing:
        yield standing
    assert not standing.namespaces()
    assert not standing.logs.exists()


@pytest.fixture
def gate(rig: Rig, plan_file: Path) -> Iterator["subprocess.Popen[str]"]:
    with gate_running(rig, plan_file) as running:
        yield running


def goodput(rig: Rig, direction: str, *hosts: Host, flows: int = 4, seconds: float = 6) -> list[float]:
    # What slow start lost at first leaves holes, behind which data that has arrived is not acknowledged yet: it would
    # count for the seconds in which the holes are filled.
    options = ("--flows", flows, "--seconds", seconds, "--warmup", 5)
    loads = [start_endpoint(rig, host, "load", direction, *options) for host in hosts]
    return [finish(load)["goodput"] for load in loads]


def call_beside_uploads(rig: Rig) -> CallResult:
    options = ("--flows", 8, "--seconds", 6, "--warmup", 1)
    uploads = start_endpoint(rig, WORKER, "load", "up", *options)
    time.sleep(2)
    call = finish(start_endpoint(rig, CALLER, "call", "--seconds", 4))
    finish(uploads)
    return call_result(call)


def added(delays: tuple[int, ...], percent: float) -> float:
    """Milliseconds beyond the delay of the line."""
    return (float(np.percentile(delays, percent)) - DELAY) / MILLISECOND


@pytest.mark.parametrize(
    ("direction", "host"),
    [
        ("down", WORKER6),
        pytest.param("up", WORKER, marks=pytest.mark.slow),
        pytest.param("up", WORKER6, marks=pytest.mark.slow),
        pytest.param("down", WORKER, marks=pytest.mark.slow),
    ],
)
def test_goodput_is_what_the_usable_rate_allows(
    rig: Rig, gate: "subprocess.Popen[str]", direction: str, host: Host
) -> None:
    most = MOST[host.address]
    hold(lambda: goodput(rig, direction, host)[0], lambda got: abs(got - most) <= 0.015 * most)


@pytest.mark.room
@pytest.mark.parametrize("direction", ["down", pytest.param("up", marks=pytest.mark.slow)])
def test_each_of_two_hosts_gets_its_own_limit(rig: Rig, gate: "subprocess.Popen[str]", direction: str) -> None:
    def framed() -> list[float]:
        return [got * ETHERNET.cost(1500) / SEGMENT for got in goodput(rig, direction, *GUESTS)]

    hold(framed, lambda rates: all(abs(rate - 4_000_000) <= 0.02 * 4_000_000 for rate in rates))


@pytest.mark.room
def test_a_call_is_not_delayed_by_eight_uploads(rig: Rig, gate: "subprocess.Popen[str]") -> None:
    call = hold(lambda: call_beside_uploads(rig), lambda call: bool(call.up) and added(call.up, 99) < 2)
    assert call.loss == 0


@pytest.mark.slow
def test_without_the_gate_the_same_call_is_delayed_by_the_lines_deep_buffer(rig: Rig) -> None:
    call = call_beside_uploads(rig)
    assert added(call.up, 99) > 100


@pytest.mark.room
def test_when_the_gate_is_killed_traffic_flows_on_and_a_new_gate_starts_cleanly(rig: Rig, plan_file: Path) -> None:
    most = MOST[WORKER.address]

    def goodput_after_killing() -> float:
        with gate_running(rig, plan_file) as gate:
            load = start_endpoint(rig, WORKER, "load", "up", "--flows", 4, "--seconds", 3, "--warmup", 4)
            time.sleep(2)
            os.kill(gate.pid, signal.SIGKILL)
            return float(finish(load)["goodput"])

    # From two seconds after the killing on, the bare line is what there is: 25 Mbit/s and not 20.
    hold(goodput_after_killing, lambda got: got > 1.1 * most)
    with gate_running(rig, plan_file):
        hold(lambda: goodput(rig, "up", WORKER, seconds=3)[0], lambda got: abs(got - most) <= 0.015 * most)
    assert "SLUICE" not in chains(rig)


def chains(rig: Rig) -> str:
    listed = [
        subprocess.run(rig.command("gateway", [family, "-w", "-t", "mangle", "-S"]), capture_output=True, text=True)
        for family in ("iptables", "ip6tables")
    ]
    return "".join(done.stdout for done in listed)


@pytest.mark.parametrize("ending", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_the_chain_goes_with_the_gate_on_every_way_out(rig: Rig, plan_file: Path, ending: signal.Signals) -> None:
    with gate_running(rig, plan_file) as gate:
        assert chains(rig).count("NFQUEUE") == 4
        gate.send_signal(ending)
        assert gate.wait(timeout=10) == 0
        assert "SLUICE" not in chains(rig)


def test_a_second_gate_is_refused_and_the_first_goes_on(
    rig: Rig, gate: "subprocess.Popen[str]", plan_file: Path
) -> None:
    command = [sys.executable, "-m", "wily_sluice", "gate", "run", "--plan", str(plan_file)]
    second = subprocess.run(rig.command("gateway", command), capture_output=True, text=True)
    assert second.returncode == 3
    assert "another gate, here or in another network namespace" in second.stderr
    assert gate.poll() is None
    assert chains(rig).count("NFQUEUE") == 4


def test_each_second_tells_what_each_queue_sent(rig: Rig, plan_file: Path) -> None:
    def told() -> list[dict[str, dict[str, float]]]:
        with gate_running(rig, plan_file) as gate:
            goodput(rig, "up", WORKER, seconds=2)
            gate.send_signal(signal.SIGTERM)
            assert gate.stdout is not None
            return [json.loads(line)["uplinks"]["line"]["up"] for line in gate.stdout.read().splitlines()]

    seconds = hold(told, lambda seconds: max(queues["rest"]["rate"] for queues in seconds) > 0.9 * USABLE)
    assert max(queues["calls"]["rate"] for queues in seconds) == 0  # TCP on the call's port is no call


def test_a_rig_that_was_left_half_built_is_taken_down(rig: Rig, plan_file: Path) -> None:
    crashed = Rig(f"crash{os.getpid()}")
    for index in ("house", "gateway"):
        subprocess.run(["ip", "netns", "add", crashed.prefix + index], check=True)
    sleeper = subprocess.Popen(crashed.command("house", ["sleep", "60"]))
    assert crashed.down() == 2
    assert sleeper.wait(timeout=5) != 0
    assert not crashed.namespaces()
    with pytest.raises(LiveError, match="is up already"):
        rig.up(Layout(load(plan_file), rig.name, 1), {})
