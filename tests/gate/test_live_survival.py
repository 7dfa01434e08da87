"""What a running gate lives through: full disks, interfaces that go, noise on its sockets, more than it can carry."""

import json
import os
import random
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from subprocess import PIPE
from threading import Event, Thread

import pytest

from tests.gate.running import CALLER, HOST, PLAN, Running, gate, interface_bytes, up_rate
from tests.gate.stillness import hold
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.errors import RpcError
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import FAR_ADDRESSES
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live


def test_who_may_only_watch_can_change_nothing(rig: Rig, tmp_path: Path) -> None:
    with gate(rig, tmp_path, PLAN + "gate: {watchers: everyone}\n") as running:
        script = (
            "import os; from pathlib import Path; from wily_sluice.control.client import Client; os.setuid(65534)\n"
            f"folder = Path({str(running.folder)!r})\n"
            "c = Client(True, folder)\n"
            "print(c.call('gate.status')['revision'])\n"
            "for name, params in (('gate.stop', {}), ('plan.undo', {}), ('plan.apply', {'plan': ''})):\n"
            "    try: print(c.call(name, **params))\n"
            "    except Exception as e: print(e.code)\n"
            "try: Client(False, folder)\n"
            "except Exception as e: print(e)\n"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        assert done.stdout.split("\n")[:4] == ["1", "-32601", "-32601", "-32601"]
        assert "needs root" in done.stdout


@contextmanager
def noise(folder: Path) -> Iterator[list[int]]:
    """A hundred clients that say nothing, and one that says nonsense all the time: how often it was answered."""
    drawn = random.Random(1)
    idle = []
    for _ in range(100):
        end = socket.socket(socket.AF_UNIX)
        end.connect(str(folder / "watch.sock"))
        idle.append(end)
    answered, over = [0], Event()

    def say() -> None:
        with socket.socket(socket.AF_UNIX) as end:
            end.settimeout(10)
            end.connect(str(folder / "control.sock"))
            lines = end.makefile("rb")
            while not over.is_set():
                said = b"".join(drawn.randbytes(drawn.randrange(1, 60)).replace(b"\n", b"") + b"?\n" for _ in range(50))
                end.sendall(said)
                assert all(b'"error"' in lines.readline() for _ in range(50))
                answered[0] += 50

    saying = Thread(target=say)
    saying.start()
    try:
        yield answered
    finally:
        over.set()
        saying.join()
        for end in idle:
            end.close()


def test_noise_on_the_sockets_does_not_disturb_shaping(rig: Rig, tmp_path: Path) -> None:
    most = 9_000_000 * SEGMENT / ETHERNET.cost(1500)
    with gate(rig, tmp_path) as running:

        def measured() -> tuple[float, float, float]:
            with noise(running.folder) as answered:
                load = start_endpoint(rig, HOST, "load", "up", "--flows", 4, "--seconds", 6, "--warmup", 2)
                time.sleep(1)
                call = call_result(finish(start_endpoint(rig, CALLER, "call", "--seconds", 5)))
                goodput = finish(load)["goodput"]
                assert running.call("gate.status")["clients"] >= 101
            assert answered[0] > 1000
            return goodput / most, call.loss, call.percentile("up", 99) / MILLISECOND

        # One largest packet takes 1.4 ms at this rate, and the line 10.
        hold(
            lambda: (print(x := measured()), x)[1],
            lambda found: abs(found[0] - 1) < 0.02 and found[1] == 0 and found[2] < 13.4,
        )
        with socket.socket(socket.AF_UNIX) as end:
            end.connect(str(running.folder / "watch.sock"))
            with suppress(OSError):
                end.sendall(b"x" * 200_000)
            end.settimeout(5)
            closed = b""
            with suppress(OSError):
                while data := end.recv(4096):
                    closed += data
            assert b"too long" in closed
        assert running.call("gate.status")["revision"] == 1


@pytest.mark.parametrize("seconds", [6, pytest.param(57, marks=pytest.mark.slow)])
def test_the_sum_over_the_queues_is_what_the_interface_counted(rig: Rig, tmp_path: Path, seconds: int) -> None:
    with gate(rig, tmp_path) as running, running.client() as client:
        client.call("watch.subscribe", to="seconds")
        before = interface_bytes(rig)
        span = ("--seconds", seconds, "--warmup", 1)
        loads = [start_endpoint(rig, HOST, "load", way, "--flows", 3, *span) for way in ("up", "down")]
        call = start_endpoint(rig, CALLER, "call", "--seconds", seconds)
        seen = {"up": 0, "down": 0}
        rules = 0
        over = time.monotonic() + seconds + 3
        for told in client.notifications():
            for way in seen:
                line = told["uplinks"]["line"][way]
                seen[way] += sum(queue["bytes"] for queue in line["queues"].values())
            rules += sum(one["bytes"] for ways in told["rules"].values() for one in ways.values())
            if time.monotonic() > over:
                break
        for one in (*loads, call):
            finish(one)
        after = interface_bytes(rig)
    for way, own in seen.items():
        counted = after[way] - before[way]
        assert own > 4_000_000
        assert abs(own - counted) <= 0.001 * counted
    assert rules == sum(seen.values())


def test_a_state_folder_that_cannot_be_written_is_told_and_survived(rig: Rig, tmp_path: Path) -> None:
    state = tmp_path / "small"
    state.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=400k", "tmpfs", str(state)], check=True)
    try:
        with gate(rig, state) as running:
            assert running.apply(8)["revision"] == 2
            with suppress(OSError), (state / "filler").open("wb") as filler:
                while True:
                    filler.write(bytes(4096))
                    filler.flush()
            with pytest.raises(RpcError, match="history cannot be written"):
                running.call("plan.keep")
            assert running.call("gate.status")["trial"]["revision"] == 2  # the trial goes on
            (state / "filler").unlink()
            assert running.call("plan.keep") == {"revision": 2}
            database = sqlite3.connect(state / "plans.sqlite", isolation_level=None)
            database.execute("begin exclusive")
            with pytest.raises(RpcError, match="locked"):
                running.apply(6)
            database.execute("rollback")
            database.close()
            assert up_rate(running) == 7_200_000
            subprocess.run(["mount", "-o", "remount,ro", str(state)], check=False)
            told = running.events()
    finally:
        subprocess.run(["umount", "-l", str(state)], check=True)
    assert [one["event"] for one in told][:2] == ["gate.running", "plan.applied"]


def test_an_interface_that_goes_and_comes_back_is_told_and_shaped_again(rig: Rig, tmp_path: Path) -> None:
    plan = PLAN.replace("networks:", "  spare: {interface: wan9, down: 2 Mbit/s, up: 2 Mbit/s}\nnetworks:")
    gateway = ["ip", "-n", f"{rig.prefix}gateway", "link"]
    with gate(rig, tmp_path, plan) as running:
        assert running.until("missing", ["wan9"])
        subprocess.run([*gateway, "add", "wan9", "type", "veth", "peer", "name", "wan9-far"], check=True)
        assert running.until("missing", [])
        subprocess.run([*gateway, "del", "wan9"], check=True)
        assert running.until("missing", ["wan9"])
        told = [one["event"] for one in running.events()]
    assert told[:4] == ["gate.running", "interface.missing", "interface.back", "interface.missing"] or told[:4] == [
        "interface.missing", "gate.running", "interface.back", "interface.missing",
    ]  # fmt: skip


MODEM = Path(__file__).parent / "modem.py"


@contextmanager
def modem(rig: Rig, name: str) -> Iterator["subprocess.Popen[str]"]:
    """A line without Ethernet, as PPP makes one, that is there meanwhile; it leads to one address of the far side."""
    command = rig.command("gateway", [sys.executable, str(MODEM), name, "203.0.113.77"])
    program = subprocess.Popen(command, stdout=PIPE, text=True)
    assert program.stdout is not None
    assert program.stdout.readline() == "ready\n"
    try:
        yield program
    finally:
        program.kill()
        program.wait()


def through(program: "subprocess.Popen[str]") -> int:
    """What it carries in the fourth half second from now, in bit/s."""
    assert program.stdout is not None
    for _ in range(4):
        line = program.stdout.readline()
    return int(json.loads(line)["bytes"]) * 16


def test_a_line_that_breaks_off_and_comes_back_costs_the_others_nothing_and_is_shaped_again(
    rig: Rig, tmp_path: Path
) -> None:
    plan = PLAN.replace("networks:", "  dial: {interface: ppp0.7, down: 2 Mbit/s, up: 2 Mbit/s}\nnetworks:")
    sender = (
        "import socket, time; end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); end.bind(('10.7.0.102', 0))\n"
        "while True:\n    end.sendto(bytes(972), ('203.0.113.77', 9)); time.sleep(0.001)\n"
    )
    with gate(rig, tmp_path, plan) as running:
        assert running.until("missing", ["ppp0.7"])
        usable = running.call("gate.status")["uplinks"]["dial"]["up"]
        call = start_endpoint(rig, CALLER, "call", "--seconds", 14)
        sending = subprocess.Popen(rig.command("house", [sys.executable, "-c", sender]))
        try:
            for _ in range(2):
                with modem(rig, "ppp0.7") as line:
                    running.until("missing", [])
                    # A packet of 1000 bytes is charged a frame of 1018 and more; this line has no frames.
                    expected = usable * 1000 / ETHERNET.cost(1000)
                    hold(lambda line=line: through(line), lambda rate, e=expected: abs(rate - e) <= 0.03 * e)
                running.until("missing", ["ppp0.7"])  # with a second of packets in the gate for it
        finally:
            sending.kill()
            sending.wait()
        assert call_result(finish(call)).loss == 0


def test_packets_that_come_faster_than_a_gate_takes_them_in_flow_past_and_that_is_told(
    rig: Rig, tmp_path: Path
) -> None:
    with gate(rig, tmp_path) as running:
        assert running.call("gate.status")["bypassed"] == 0
        program = rig.program("house", "flood_program", HOST.address, FAR_ADDRESSES[0], 6, 100)
        flood = subprocess.Popen(program)
        for _ in range(4):  # never for so long that it counts as hung
            os.kill(running.process.pid, signal.SIGSTOP)
            time.sleep(0.8)
            os.kill(running.process.pid, signal.SIGCONT)
            time.sleep(0.1)
        flood.wait()
        deadline = time.monotonic() + 10
        while not running.call("gate.status")["bypassed"] and time.monotonic() < deadline:
            time.sleep(0.2)
        assert running.call("gate.status")["bypassed"] > 1000
        told = [one for one in running.events() if one["event"] == "gate.too_slow"]
    assert told and told[0]["bypassed"] > 0


def test_a_gate_that_hangs_is_ended_and_traffic_flows_on_without_it(rig: Rig, tmp_path: Path) -> None:
    with gate(rig, tmp_path) as running:
        call = start_endpoint(rig, HOST, "call", "--seconds", 8)
        time.sleep(2)
        os.kill(running.process.pid, signal.SIGSTOP)
        assert running.process.wait(5) == -signal.SIGKILL
        result = call_result(finish(call))
        assert result.loss < 2.0 / 8  # what came in less than two seconds was held, and is lost
        assert "gate.hung" in running.end()


def test_gates_in_two_namespaces_leave_each_other_alone(rig: Rig, tmp_path: Path) -> None:
    file = tmp_path / "twin.yaml"
    file.write_text(PLAN)
    with (
        built(load(file), f"twin{os.getpid()}", 10 * MILLISECOND) as other,
        gate(rig, tmp_path / "one") as first,
        gate(other, tmp_path / "two") as second,
    ):
        second.apply(4, trial=None)
        assert (up_rate(first), up_rate(second)) == (9_000_000, 3_600_000)
        loads = [
            start_endpoint(where, HOST, "load", "up", "--flows", 2, "--seconds", 4, "--warmup", 2)
            for where in (rig, other)
        ]
        found = [finish(one)["goodput"] for one in loads]
        assert found[0] > 1.5 * found[1] > 1_500_000
        third = Running(other, tmp_path / "one", "--plan", str(file))
        told = json.loads(third.process.communicate(timeout=20)[0])["error"]
        assert "another gate, here or in another network namespace" in told["message"]
        second.end()
        assert first.call("gate.status")["revision"] == 1
        chain = rig.command("gateway", ["iptables", "-w", "-t", "mangle", "-S", "SLUICE"])
        assert "NFQUEUE" in subprocess.run(chain, capture_output=True, text=True, check=True).stdout


def test_a_gate_whose_interface_is_missing_says_so_when_it_starts(tmp_path: Path) -> None:
    name = f"sluice-bare{os.getpid()}"
    (tmp_path / "sluice.yaml").write_text(PLAN)
    subprocess.run(["ip", "netns", "add", name], check=True)
    try:
        program = [sys.executable, "-m", "wily_sluice", "gate", "run", "--quiet", "--state", str(tmp_path / "state")]
        gate = subprocess.Popen(
            ["ip", "netns", "exec", name, *program], cwd=tmp_path, stdout=subprocess.PIPE, text=True,
            env={key: value for key, value in os.environ.items() if key != "SLUICE_PLAN"},
        )  # fmt: skip
        assert gate.stdout is not None
        first = gate.stdout.readline()
        gate.terminate()
        gate.wait(timeout=20)
    finally:
        subprocess.run(["ip", "netns", "delete", name], check=True)
    assert first.startswith("wan0 (line) is not here; once it is, it is shaped to")
