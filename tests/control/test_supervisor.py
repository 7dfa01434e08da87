"""The gate's own watch over a trial, with a process beside it that puts a plan on trial for a minute."""

import select
import sys
from collections.abc import Callable, Iterator
from dataclasses import replace

import pytest

from wily_sluice.control.link import supervisor as module
from wily_sluice.control.link.supervisor import Supervisor
from wily_sluice.gate.look import Visits
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND

BESIDE = (
    "import socket, sys\n"
    "from wily_sluice.control.link.link import Link\n"
    "from wily_sluice.control.link.messages import FromGate, Take\n"
    "from wily_sluice.plan.file.bundle import Bundle\n"
    "end = socket.socket(fileno=int(sys.argv[1]))\n"
    "link = Link(end, FromGate)\n"
    "link.send(Take(1, Bundle(b'new'), 2, 60_000_000_000, 1 << 62))\n"
    "end.setblocking(True)\n"
    "while end.recv(4096): pass\n"
)


class StandIn:
    """A gate that takes up every plan at once."""

    visits = Visits()

    def __init__(self, plan: Plan) -> None:
        self.plan = plan

    def state(self, lasted: int) -> tuple[int, ...]:
        return ()

    def offer(self, plan: Callable[[], Plan], done: Callable[[str], None]) -> None:
        self.plan = plan()
        done("")

    def talks(self) -> list[object]:
        return []


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """What the clock says that goes on while the machine sleeps."""
    now = [0]
    monkeypatch.setattr(module, "boot_clock", lambda: now[0])
    return now


@pytest.fixture
def on_trial(clock: list[int], demo_plan: Plan) -> Iterator[Supervisor]:
    command = [sys.executable, "-c", BESIDE]
    supervisor = Supervisor(command, Bundle(b"old"), 1, lambda _: None, lambda bundle: replace(demo_plan, site="New"))
    gate = StandIn(demo_plan)
    supervisor.oversee(gate)  # type: ignore[arg-type]
    try:
        while supervisor.revision == 1:
            assert select.select([supervisor], (), (), 20)[0]
            supervisor.turn()
        assert gate.plan.site == "New"
        yield supervisor
    finally:
        supervisor.close()


def test_a_trial_lasts_as_long_as_was_said_whatever_the_wall_clock_does(
    on_trial: Supervisor, clock: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    for wall, at, revision in ((4e9, 30, 2), (0.0, 59, 2), (1.8e9, 60, 1)):
        monkeypatch.setattr("time.time", lambda wall=wall: wall)
        clock[0] = at * SECOND
        on_trial.tick(SECOND)
        assert on_trial.revision == revision


def test_a_trial_is_over_when_the_machine_wakes_up_after_it(on_trial: Supervisor, clock: list[int]) -> None:
    clock[0] = 8 * 3600 * SECOND
    on_trial.tick(SECOND)
    assert on_trial.revision == 1


def test_a_process_beside_the_gate_that_was_killed_is_started_again_and_the_trial_goes_on(
    on_trial: Supervisor, clock: list[int]
) -> None:
    first = on_trial._process
    assert first is not None
    first.kill()
    first.wait()
    while on_trial._link is not None:
        assert select.select([on_trial], (), (), 20)[0]
        on_trial.turn()
    for seconds in (1, 3):
        clock[0] = seconds * SECOND
        on_trial.tick(SECOND)
    assert on_trial._process is not first and on_trial._process is not None
    assert on_trial.revision == 2
    clock[0] = 61 * SECOND
    on_trial.tick(SECOND)
    assert on_trial.revision == 1
