"""What others do to the tables that a gate stands on, and floods, on real packets."""

import json
import os
import signal
import sqlite3
import subprocess
import time
from base64 import b64encode
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from subprocess import PIPE
from typing import Any

import pytest

from tests.gate.running import CALLER, HOST, PLAN, Running, gate
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import FAR_ADDRESSES
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live

FLUSHES = {
    "iptables": ["iptables -w -t mangle -F FORWARD"],
    "ip6tables": ["ip6tables -w -t mangle -F SLUICE"],
    "iptables-restore": ["printf '*mangle\\nCOMMIT\\n' | iptables-restore -w"],
    "nft": ["nft flush ruleset"],
}
RECOGNISING = PLAN.replace("rules:\n", "rules:\n  - {name: Meetings, service: meetings, queue: calls}\n")


def repairs(running: Running) -> list[dict[str, Any]]:
    events: list[dict[str, Any]] = running.call("gate.status")["events"]
    return [one for one in events if one["event"] == "chain.repaired"]


@pytest.mark.parametrize("times", [1, pytest.param(10, marks=pytest.mark.slow)])
def test_tables_that_are_flushed_under_load_are_put_right_within_two_seconds_and_that_is_told(
    tmp_path: Path, times: int
) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN)
    # A site of its own: what is flushed includes how it translates addresses.
    with built(load(file), f"flush{os.getpid()}", 10 * MILLISECOND) as rig, gate(rig, tmp_path) as running:
        traffic = start_endpoint(rig, HOST, "load", "up", "--flows", 2, "--seconds", 8 * times + 4, "--warmup", 1)
        time.sleep(2)
        took = []
        for _ in range(times):
            for commands in FLUSHES.values():
                told = repairs(running)[-1:]  # of which only the newest are kept
                for command in commands:
                    subprocess.run(rig.command("gateway", ["sh", "-c", command]), check=True, capture_output=True)
                begun = time.monotonic()
                while repairs(running)[-1:] == told:
                    assert time.monotonic() < begun + 5
                    time.sleep(0.02)
                took.append(time.monotonic() - begun)
        for family in ("iptables", "ip6tables"):
            chain = rig.command("gateway", [family, "-w", "-t", "mangle", "-S"])
            listed = subprocess.run(chain, capture_output=True, text=True, check=True).stdout
            assert listed.count("-A FORWARD -j SLUICE") == 1, listed
            assert listed.count("-A POSTROUTING ") == 4, listed
        traffic.kill()
        traffic.communicate()
        events = [one["event"] for one in running.events()]
    assert max(took) < 2.5, took
    assert events.count("chain.repaired") == len(took)
    assert "chain.unrepaired" not in events


def test_a_rule_of_others_that_takes_packets_past_the_gate_is_told(rig: Rig, tmp_path: Path) -> None:
    rule = ["FORWARD", "-i", "lan0", "-p", "udp", "-j", "ACCEPT"]
    with gate(rig, tmp_path) as running:
        subprocess.run(rig.command("gateway", ["iptables", "-w", "-t", "mangle", "-I", *rule]), check=True)
        try:
            time.sleep(2.5)
            told = [one for one in running.events() if one["event"] == "chain.bypassed"]
        finally:
            subprocess.run(rig.command("gateway", ["iptables", "-w", "-t", "mangle", "-D", *rule]), check=True)
    assert len(told) == 1 and "-i lan0 -p udp -j ACCEPT" in told[0]["rules"]


@contextmanager
def flood(rig: Rig, kind: str, seconds: float, rate: int) -> Iterator[None]:
    """From a host of the house, meanwhile."""
    address = rig.command("gateway", ["cat", "/sys/class/net/lan0/address"])
    hardware = subprocess.run(address, capture_output=True, text=True, check=True).stdout.strip()
    words = (kind, "eth0", hardware, "10.7.0.103", FAR_ADDRESSES[0], seconds, rate)
    process = subprocess.Popen(rig.program("house", "storm_program", *words), stdout=PIPE, stderr=PIPE, text=True)
    try:
        yield
    finally:
        said, errors = process.communicate(timeout=seconds + 30)
    assert json.loads(said)["sent"] > seconds * rate / 4, errors


def memory(running: Running) -> int:
    """Of the gate itself, in bytes."""
    return int(Path(f"/proc/{running.process.pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


@pytest.mark.room
@pytest.mark.parametrize(
    "kind", ["hosts4", *(pytest.param(kind, marks=pytest.mark.slow) for kind in ("udp", "syn", "quic"))]
)
def test_a_flood_ends_neither_the_gate_nor_a_call_though_the_gate_stands_still_for_a_while(
    rig: Rig, tmp_path: Path, kind: str
) -> None:
    with gate(rig, tmp_path, RECOGNISING) as running:
        before = memory(running)
        call = start_endpoint(rig, CALLER, "call", "--seconds", 10)
        time.sleep(2)
        with flood(rig, kind, 6, 8_000):
            time.sleep(2)
            os.kill(running.process.pid, signal.SIGSTOP)
            time.sleep(0.5)
            os.kill(running.process.pid, signal.SIGCONT)
            time.sleep(2)
        result = call_result(finish(call))
        assert running.process.poll() is None
        assert running.call("gate.status")["revision"] == 1
        assert running.call("gate.status")["condition"]["crowd"] > 1000
        grown = memory(running) - before
    assert result.loss < 0.1  # some are let past, and lost on the full line
    assert grown < 100_000_000


# Once the file is there, whatever begins is of another version of the program.
UPGRADED = """
import os
if os.path.exists({flag!r}):
    import wily_sluice
    import wily_sluice.control.link.messages as messages
    wily_sluice.__version__, messages.PROTOCOL = "99.0", "of the next version"
"""


def test_after_an_upgrade_the_gate_shapes_on_and_says_what_to_do_and_a_restart_takes_all_up_again(
    rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "sitecustomize.py").write_text(UPGRADED.format(flag=str(tmp_path / "flag")))
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    plan = PLAN.replace(
        "down: 2 Mbit/s}", "down: 2 Mbit/s}\n  month: {local: house, up: 8 Mbit/s, quota: 1 GB per month}"
    )
    with gate(rig, tmp_path / "state", plan) as running:
        assert finish(start_endpoint(rig, HOST, "load", "up", "--seconds", 6))["goodput"] > 6_000_000
        running.call("plan.apply", plan=b64encode((plan + "# kept\n").encode()).decode(), trial=None)
        (tmp_path / "flag").touch()
        children = Path(f"/proc/{running.process.pid}/task/{running.process.pid}/children").read_text().split()
        (beside,) = [one for one in children if "wily_sluice.control.api" in Path(f"/proc/{one}/cmdline").read_text()]
        traffic = start_endpoint(rig, HOST, "load", "up", "--seconds", 8)
        os.kill(int(beside), signal.SIGKILL)
        told = ""
        deadline = time.monotonic() + 20
        while "99.0 is installed now" not in told:
            assert time.monotonic() < deadline, told
            time.sleep(0.3)
            with suppress(LiveError):
                try:
                    running.call("gate.status")
                except RpcError as error:
                    told = error.message
        assert "restart it" in told
        assert finish(traffic)["goodput"] > 6_000_000  # and nobody was hindered
        running.call("gate.stop")
        assert "the gate runs version" in running.process.communicate(timeout=20)[1]
    with gate(rig, tmp_path / "state", None) as running:  # of the new version, by what was kept
        assert running.call("gate.status")["version"] == "99.0"
        assert running.call("gate.status")["revision"] == 2
    used = sqlite3.connect(tmp_path / "state" / "quotas.sqlite").execute("select sum(used) from quota").fetchone()[0]
    assert used > 14 * 6_000_000 / 8
