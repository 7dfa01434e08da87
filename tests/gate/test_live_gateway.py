"""What the gateway itself sends and receives, and tunnels that end on it: nothing on the line escapes."""

import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from subprocess import PIPE
from typing import Any

import numpy as np
import pytest

from tests.conftest import SMALL_PLAN
from tests.gate.running import Running
from tests.gate.stillness import hold
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import CallResult, Host, built, call_result, finish
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
DELAY = 10 * MILLISECOND
FAR_END, BEYOND = "198.51.100.20", "203.0.113.10"  # of the tunnel, and a host that is reached through it
# Of 20 Mbit/s: the gateway has its cap, the tunnel its guarantee; what is left they and the rest share.
PLANNED = {"own": 4_000_000, "office": 11_000_000, "rest": 5_000_000}
PLAN = (
    SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", "down: 25 Mbit/s, up: 25 Mbit/s, headroom: 20%")
    .replace("port: 5004-5005", "port: 7000")
    .replace("      calls:", "      own: {cap: 20%}\n      office: {guarantee: 30%}\n      calls:")
    .replace("rules:\n", f"rules:\n  - {{local: gateway, queue: own}}\n  - {{remote: {BEYOND}, queue: office}}\n")
)
WORKER, CALLER, ITSELF = Host("house", "10.7.0.100"), Host("house", "10.7.0.101"), Host("gateway", "192.0.2.2")
KINDS = {
    "user space": ("4 B over udp, port: 7900", 1400, 20 + 8 + 4),
    "vxlan": ("vxlan", 1450, 20 + 8 + 8 + 14),
}


def ip(rig: Rig, node: str, *words: str) -> None:
    subprocess.run(rig.command(node, ["ip", *words]), check=True, capture_output=True)


@contextmanager
def tunnel(rig: Rig, kind: str, mtu: int) -> Iterator[None]:
    """Between the gateway and the far side, with a host behind it."""
    with ExitStack() as over:
        for node, own, other in (("far", FAR_END, ITSELF.address), ("gateway", ITSELF.address, FAR_END)):
            if kind == "vxlan":
                words = ("link", "add", "vpn0", "type", "vxlan", "id", "7", "local", own, "remote", other)
                ip(rig, node, *words, "dstport", "4789")
            else:
                command = rig.command(node, [sys.executable, "-m", "tests.gate.tunnel", "vpn0", own, other, "7900"])
                program = over.enter_context(subprocess.Popen(command, stdout=PIPE))
                over.callback(program.kill)
                assert program.stdout is not None and program.stdout.readline()
            ip(rig, node, "address", "add", f"10.99.0.{1 if node == 'gateway' else 2}/30", "dev", "vpn0")
            ip(rig, node, "link", "set", "vpn0", "mtu", str(mtu), "up")
        ip(rig, "gateway", "route", "add", BEYOND, "via", "10.99.0.2", "dev", "vpn0")
        ip(rig, "far", "route", "add", "10.7.0.0/24", "via", "10.99.0.1", "dev", "vpn0")
        serving = subprocess.Popen(rig.program("far", "endpoint", "serve", BEYOND), stdout=PIPE, start_new_session=True)
        over.callback(serving.wait)
        over.callback(serving.kill)
        yield


def start(rig: Rig, host: Host, role: str, *arguments: object, remote: str = "198.51.100.10") -> Any:
    command = rig.program(host.network, "endpoint", role, *arguments, "--local", host.address, "--remote", remote)
    return subprocess.Popen(command, stdout=PIPE, stderr=PIPE, text=True)


def loads(rig: Rig, way: str, *names: str) -> dict[str, Any]:
    """What the gateway (`own`), a host by the tunnel (`office`) and one beside it (`rest`) get, all at once."""
    span = ("--flows", 4, "--seconds", 6, "--warmup", 6)
    who = {"own": (ITSELF, "198.51.100.10"), "office": (WORKER, BEYOND), "rest": (WORKER, "198.51.100.10")}
    running = {name: start(rig, who[name][0], "load", way, *span, remote=who[name][1]) for name in names}
    return {name: finish(load)["goodput"] for name, load in running.items()}


def framed(found: dict[str, Any], kind: str) -> dict[str, float]:
    """Goodput as rates of frames on the line."""
    _, mtu, around = KINDS[kind]
    frame = {"own": (1500, 0), "office": (mtu, around), "rest": (1500, 0)}
    return {
        name: goodput * ETHERNET.cost(sum(frame[name])) / (frame[name][0] - 1500 + SEGMENT)
        for name, goodput in found.items()
    }


def added(call: CallResult) -> float:
    """Milliseconds beyond the delay of the line, for all but one packet of a hundred."""
    return max((float(np.percentile(delays, 99)) - DELAY) / MILLISECOND for delays in (call.up, call.down))


@contextmanager
def site(tmp_path: Path, kind: str, plan: str, line: int, more: str = "") -> Iterator[tuple[Rig, Running]]:
    """A gate on a line of so many Mbit/s each way, with a tunnel."""
    wrapping, mtu, _ = KINDS[kind]
    file = tmp_path / "sluice.yaml"
    file.write_text(plan + f"tunnels: {{office: {{interface: vpn0, wrapping: {wrapping}, remote: {FAR_END}{more}}}}}\n")
    with built(load(file), "gateway", DELAY, line * 1_000_000) as rig, tunnel(rig, kind, mtu):
        gate = Running(rig, tmp_path / "state", str(file)).wait()
        try:
            yield rig, gate
        finally:
            said = gate.end()
        assert not {"uplink.bypassed", "routes.unusable"} & set(said.split('"'))


@pytest.mark.parametrize(
    ("kind", "way"),
    [
        ("user space", "down"),
        pytest.param("vxlan", "up", marks=pytest.mark.room),
        pytest.param("user space", "up", marks=pytest.mark.slow),
        pytest.param("vxlan", "down", marks=pytest.mark.slow),
    ],
)
def test_the_gateways_own_packets_and_its_tunnels_share_the_line_as_the_plan_says(
    tmp_path: Path, kind: str, way: str
) -> None:
    with site(tmp_path, kind, PLAN, 25) as (rig, gate):
        hold(
            lambda: framed(loads(rig, way, *PLANNED), kind),
            lambda found: all(abs(found[name] - rate) <= 0.02 * rate for name, rate in PLANNED.items()),
        )
        time.sleep(1.2)
        for line, ours in gate.call("gate.status")["condition"]["crossed"]["line"].values():
            assert abs(line - ours) <= 0.001 * line, (line, ours)


@pytest.mark.parametrize(
    ("rate", "kind", "way"), [(20, "user space", "up"), pytest.param(98, "vxlan", "down", marks=pytest.mark.slow)]
)
def test_a_call_is_not_delayed_by_what_the_gateway_could_send_and_receive(
    tmp_path: Path, rate: int, kind: str, way: str
) -> None:
    """On a line that would carry several times what the plan says, so that only the gate holds anything back."""
    rates = f"down: {rate} Mbit/s, up: {rate} Mbit/s, headroom: 0%"
    plan = SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", rates).replace("5004-5005", "7000")
    with site(tmp_path, kind, plan, 400) as (rig, _):

        def beside() -> tuple[float, CallResult]:
            call = start(rig, CALLER, "call", "--seconds", 12)
            found = framed(loads(rig, way, "own", "office"), kind)
            return sum(found.values()) / (rate * 1_000_000), call_result(finish(call))

        _, call = hold(beside, lambda found: 0.93 < found[0] < 1.005 and added(found[1]) < 2)
        assert call.loss == 0


@pytest.mark.parametrize("kind", KINDS)
def test_a_route_leads_into_a_tunnel(tmp_path: Path, kind: str) -> None:
    plan = PLAN + f"routes: [{{remote: {BEYOND}, uplink: office}}]\n"
    with site(tmp_path, kind, plan, 25, ", next-hop: 10.99.0.2" if kind == "vxlan" else "") as (rig, gate):
        ip(rig, "gateway", "route", "del", BEYOND)
        load = start(rig, WORKER, "load", "down", "--flows", 1, "--seconds", 2, "--warmup", 1, remote=BEYOND)
        assert finish(load)["goodput"] > 5_000_000
        time.sleep(1.2)
        status = gate.call("gate.status")
        assert status["condition"]["carried"]["office"] >= 1
        assert status["condition"]["down"] == []


ECHO = """
import socket, sys
family, port = (socket.AF_INET6 if sys.argv[1] == "6" else socket.AF_INET), int(sys.argv[2])
own = socket.socket(family, socket.SOCK_DGRAM)
level, option = (socket.IPPROTO_IPV6, socket.IPV6_RECVTCLASS) if family == socket.AF_INET6 else (socket.IPPROTO_IP, 13)
own.setsockopt(level, option, 1)
own.bind(("", port))
print("ready", flush=True)
while True:
    data, about, _, who = own.recvmsg(100, 100)
    own.sendto(about[0][2][:1], who)
"""
ASK = """
import socket, sys
family = socket.AF_INET6 if ":" in sys.argv[1] else socket.AF_INET
own = socket.socket(family, socket.SOCK_DGRAM)
level, option = (socket.IPPROTO_IPV6, socket.IPV6_RECVTCLASS) if family == socket.AF_INET6 else (socket.IPPROTO_IP, 13)
own.setsockopt(level, option, 1)
own.settimeout(0.5)
for _ in range(10):
    own.sendto(b"?", (sys.argv[1], int(sys.argv[2])))
    try:
        data, about, _, _ = own.recvmsg(100, 100)
        print(data[0] >> 2, about[0][2][0] >> 2)
    except TimeoutError:
        print("lost")
"""
CS5 = 40


def test_what_the_gateway_asks_arrives_and_is_answered_although_a_rule_marks_it(tmp_path: Path) -> None:
    """Both ways, by both versions of IP: seen by either end, and counted once."""
    plan = PLAN.replace("local: gateway, queue: own}", "local: gateway, protocol: udp, mark: CS5, queue: own}")
    file = tmp_path / "sluice.yaml"
    file.write_text(plan)
    with built(load(file), "gateway", DELAY, 25_000_000) as rig:
        gate = Running(rig, tmp_path / "state", str(file)).wait()
        try:
            for version, far in (("4", rig.far_addresses[0]), ("6", rig.far_addresses[1])):
                echo = subprocess.Popen(
                    rig.command("far", [sys.executable, "-c", ECHO, version, "7007"]), stdout=PIPE, text=True
                )
                assert echo.stdout is not None and echo.stdout.readline()
                asked = rig.command("gateway", [sys.executable, "-c", ASK, far, "7007"])
                answers = subprocess.run(asked, capture_output=True, text=True, timeout=20).stdout.split("\n")[:-1]
                echo.kill()
                assert answers == [f"{CS5} {CS5}"] * 10
            time.sleep(1.2)
            for line, ours in gate.call("gate.status")["condition"]["crossed"]["line"].values():
                assert abs(line - ours) <= 0.05 * line + 150, (
                    line,
                    ours,
                )  # the interface counts address resolution too
        finally:
            gate.end()
