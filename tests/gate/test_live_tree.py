"""The demo site's tree on real packets, with every queue hungry both ways; and marks instead of drops."""

import json
import os
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.gate.stillness import hold
from wily_sluice import examples
from wily_sluice.forecast.split import split
from wily_sluice.outside.files import load
from wily_sluice.plan.rates import resolve
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, built, finish, gate_running, start_endpoint
from wily_sluice.units import DIRECTIONS, MILLISECOND

pytestmark = pytest.mark.live

# Who feeds each leaf. The far side has one address, so it is the specialist too; and the console plays over TCP.
HOSTS = {
    "calls": Host("surgery", "10.61.0.41"),
    "play": Host("flat", "10.61.40.15"),
    "work/scans": Host("surgery", "10.61.0.70"),
    "work/desk": Host("surgery", "10.61.0.100"),
    "visitors": Host("waiting-room", "10.61.30.100"),
    "backup": Host("surgery", "10.61.0.80"),
    "rest": Host("flat", "10.61.40.100"),
}
# A few flows of TCP leave a queue that CoDel keeps short empty now and then; what then goes by is the others'.
FLOWS = {"calls": 10, "work/scans": 8, "work/desk": 6, "rest": 5}
WARM_UP, SECONDS = 6, 10


@pytest.fixture(scope="module")
def plan_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    text = (examples.folder() / examples.PLAN).read_text()
    for old, new in (
        ("down: 180 Mbit/s", "down: 40 Mbit/s"),
        ("198.51.100.64/28", "198.51.100.0/28"),
        ("local: console, service: [marsh-league, play]", "local: console"),
    ):
        assert old in text
        text = text.replace(old, new)
    file = tmp_path_factory.mktemp("tree") / "sluice.yaml"
    (file.parent / examples.PLACES).write_bytes((examples.folder() / examples.PLACES).read_bytes())
    file.write_text(text)
    return file


@pytest.fixture(scope="module")
def rig(plan_file: Path) -> Iterator[Rig]:
    with built(load(plan_file), f"tree{os.getpid()}", 10 * MILLISECOND) as standing:
        yield standing


def rates_with_all_hungry(rig: Rig, plan_file: Path) -> dict[str, dict[str, float]]:
    """Bit/s of each leaf's frames in each direction, as the gate counted them."""
    with gate_running(rig, plan_file) as gate:
        span = ("--seconds", SECONDS + 2, "--warmup", WARM_UP)
        loads = [
            start_endpoint(rig, host, "load", way, *span, "--flows", FLOWS.get(leaf, 3))
            for leaf, host in HOSTS.items()
            for way in DIRECTIONS
        ]
        assert gate.stdout is not None
        seconds = [json.loads(gate.stdout.readline())["uplinks"]["fibre"] for _ in range(WARM_UP + SECONDS)]
        gate.send_signal(signal.SIGTERM)
        for one in loads:
            one.kill()
            one.communicate()
    return {
        way: {leaf: sum(second[way][leaf]["rate"] for second in seconds[WARM_UP:]) / SECONDS for leaf in HOSTS}
        for way in DIRECTIONS
    }


def test_every_leaf_of_the_demo_tree_gets_its_share_when_all_are_hungry_both_ways(rig: Rig, plan_file: Path) -> None:
    plan = load(plan_file)
    shares = {way: split(resolve(plan, plan.uplinks[0], way), {}) for way in DIRECTIONS}

    def off(rates: dict[str, dict[str, float]]) -> dict[str, float]:
        return {
            f"{leaf} {way}": round(rates[way][leaf] / shares[way][leaf].rate - 1, 4)
            for way in DIRECTIONS
            for leaf in HOSTS
        }

    hold(lambda: off(rates_with_all_hungry(rig, plan_file)), lambda found: max(map(abs, found.values())) <= 0.02)


def test_a_flow_that_offers_ecn_is_marked_and_loses_nothing(rig: Rig, plan_file: Path) -> None:
    desk = HOSTS["work/desk"]
    for index in (desk.network, "far"):
        ask = ["sh", "-c", "echo 1 > /proc/sys/net/ipv4/tcp_ecn"]
        subprocess.run(rig.command(index, ask), check=True)

    def upload() -> tuple[float, int, int]:
        """Goodput, marks, drops."""
        with gate_running(rig, plan_file) as gate:
            load = start_endpoint(rig, desk, "load", "up", "--flows", 2, "--seconds", 5, "--warmup", 3)
            got = finish(load)["goodput"]
            gate.send_signal(signal.SIGTERM)
            assert gate.stdout is not None
            up = [json.loads(line)["uplinks"]["fibre"]["up"]["work/desk"] for line in gate.stdout.read().splitlines()]
        return got, sum(second["marks"] for second in up), sum(second["drops"] for second in up)

    # The mark reached the far side, and its echo the sender: unheeded, the queue would have grown to its limit.
    _, marks, drops = hold(upload, lambda found: found[0] > 15_000_000)
    assert marks > 5
    assert drops == 0
