"""What floods do to a call, to a TCP flow and to the gate's memory: `python -m benchmarks.floods [SECONDS] [KIND…]`.

A site of 100/20 Mbit/s whose plan asks for a service, so that the first packets of conversations are recognised; a
call and an upload run beside each flood. There is no simulated line behind the gate, which would want a processor of
its own: what is added to the call is the gate's and the machine's. Root. `bypassed` is what bypassed the gate since it
came faster than it could be taken in, `shed` what it dropped of too many openings, and `sent` what the flooding host
got out. The call begins during the flood; beside `one-way` its packets have no answer, so that it never shows itself to
be two-way, and beside `before` it began earlier. Beside `stopped` the gate is stopped for a second; beside `changes`
two people change the plan 28 times.

Each flood is also let through by a loop in C that accepts whatever the kernel's packet queue hands over
(`accept_loop.c`, which needs a C compiler): `bare_cpu` is the part of a core that this takes, `bare_p99_up_ms` what it
adds to the call.
"""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from base64 import b64encode
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from subprocess import PIPE
from typing import Any

from tests.gate.running import Running
from wily_sluice.errors import RpcError
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND

PLAN = """\
site: Floods
uplinks:
  line: {interface: wan0, down: 100 Mbit/s, up: 20 Mbit/s, headroom: 8%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/16, "fd07::/64"]}
groups:
  tablets: ["02:00:5e:00:53:01"]
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      web: {guarantee: 20%}
      rest: {default: true}
limiters:
  each: {local: house, per: host, up: 15 Mbit/s, down: 60 Mbit/s}
rules:
  - {name: Call, local: 10.7.0.101, protocol: udp, remote-port: 7000, queue: calls}
  - {name: Tablets, local: tablets, queue: web}
  - {name: Calls, service: [calls, meetings], queue: calls}
  - {name: Web, service: web, queue: web}
"""
WORKER, CALLER = Host("house", "10.7.0.100"), Host("house", "10.7.0.101")
FLOODER = "10.7.0.103"
RATES = {"none": 0, "udp": 20_000, "udp-50k": 50_000, "udp-200k": 200_000, "syn": 50_000, "hosts4": 20_000,
         "hosts6": 20_000, "devices-4": 20_000, "devices-40": 20_000, "before": 20_000, "before-50k": 50_000,
         "one-way": 20_000, "one-way-50k": 50_000, "quic": 10_000, "fragments": 20_000,
         "stopped": 20_000, "changes": 20_000}  # fmt: skip
AS_UDP = ("stopped", "changes", "before", "one-way")
BARE_SECONDS = 10.0
CHANGES = 14  # of each administrator


def resident(process: int) -> dict[int, int]:
    """Of a process and all below it, in bytes."""
    found = {}
    waiting = [process]
    while waiting:
        one = waiting.pop()
        try:
            status = Path(f"/proc/{one}/status").read_text()
            waiting += map(int, Path(f"/proc/{one}/task/{one}/children").read_text().split())
        except OSError:
            continue
        match = re.search(r"VmRSS:\s+(\d+)", status)
        found[one] = int(match[1]) << 10 if match else 0
    return found


def worked(process: int) -> float:
    """Seconds of a processor that it has used."""
    fields = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / 100


@contextmanager
def flood(rig: Rig, kind: str, rate: int, seconds: float) -> Iterator[None]:
    """A flood meanwhile; waits for its end."""
    if kind == "none":
        yield
        return
    hardware = subprocess.run(
        rig.command("gateway", ["cat", "/sys/class/net/lan0/address"]), capture_output=True, text=True, check=True
    ).stdout.strip()
    local, remote = ("fd07::67", FAR_ADDRESSES[1]) if kind == "hosts6" else (FLOODER, FAR_ADDRESSES[0])
    name = "udp" if kind.startswith(AS_UDP) else kind.partition("-")[0]
    devices = kind.partition("-")[2] if name == "devices" else 1
    words = (name, "eth0", hardware, local, remote, seconds, rate, devices)
    process = subprocess.Popen(rig.program("house", "storm_program", *words), stdout=PIPE, stderr=PIPE, text=True)
    yield
    told, errors = process.communicate()
    print(f"    flood: {told.strip() or errors.strip()}")


def stop_for_a_second(running: Running, seconds: float) -> int:
    """Halfway through."""
    time.sleep(seconds / 2)
    os.kill(gate_process(running), signal.SIGSTOP)
    time.sleep(1)
    os.kill(gate_process(running), signal.SIGCONT)
    return 0


def change_plans(running: Running, seconds: float, rate: int) -> int:
    """All the while, beside another who does the same; how often that was refused."""
    refused = 0
    for count in range(CHANGES):
        plan = PLAN.replace("up: 15 Mbit/s", f"up: {rate - count % 3} Mbit/s") + f"# {count}\n"
        try:
            running.call("plan.apply", plan=b64encode(plan.encode()).decode(), trial=None)
        except RpcError:
            refused += 1
        time.sleep(seconds / CHANGES * 0.7)
    return refused


def measure(rig: Rig, running: Running, kind: str, seconds: float) -> dict[str, Any]:
    """One flood."""
    process = gate_process(running)
    before, work = sum(resident(process).values()), worked(process)
    status = running.call("gate.status")
    load_ = start_endpoint(rig, WORKER, "load", "up", "--flows", 1, "--seconds", seconds, "--warmup", 2)
    begun, taken = time.monotonic(), stolen()
    words = ["--seconds", seconds - 1, *(["--one-way"] if kind.startswith("one-way") else [])]
    early = kind.startswith("before")
    if early:
        call = start_endpoint(rig, CALLER, "call", *words)
        time.sleep(1)
    with flood(rig, kind, RATES[kind], seconds + 2):
        if not early:
            time.sleep(2)
            call = start_endpoint(rig, CALLER, "call", *words)
        most = longest = 0
        with ThreadPoolExecutor() as beside:
            doing = []
            if kind == "stopped":
                doing = [beside.submit(stop_for_a_second, running, seconds)]
            elif kind == "changes":
                doing = [beside.submit(change_plans, running, seconds, rate) for rate in (15, 12)]
            while call.poll() is None:
                time.sleep(0.2)
                most = max(most, sum(resident(process).values()))
                longest = max(longest, running.call("gate.status")["condition"]["longest_turn"])
            refused = sum(one.result() for one in doing)
        result = call_result(finish(call))
        goodput = finish(load_)["goodput"]
    lasted = time.monotonic() - begun
    after = running.call("gate.status")
    return {
        "kind": kind,
        "p95_up_ms": round(result.percentile("up", 95) / MILLISECOND, 2),
        "p99_up_ms": round(result.percentile("up", 99) / MILLISECOND, 2),
        "p99_down_ms": round(result.percentile("down", 99) / MILLISECOND, 2) if result.down else None,
        "loss": round(result.loss, 4),
        "tcp_mbit": round(goodput / 1e6, 2),
        "grown_mb": round((most - before) / 1e6, 1),
        "stolen": round((stolen() - taken) / lasted, 2),
        "cpu": round((worked(process) - work) / lasted, 2),
        "bypassed": after["bypassed"] - status["bypassed"],
        "shed": after["condition"]["shed"] - status["condition"]["shed"],
        "refused_changes": refused,
    } | {
        "longest_turn_ms": longest / MILLISECOND,
        "late_turns": after["condition"]["late_turns"] - status["condition"]["late_turns"],
        "crowd": after["condition"]["crowd"] - status["condition"]["crowd"],
    }


def built(folder: Path) -> Path | None:
    """The loop in C, compiled into a folder; None where there is no compiler."""
    compiler = shutil.which("cc")
    if compiler is None:
        return None
    program = folder / "accept_loop"
    subprocess.run([compiler, "-O2", "-o", program, Path(__file__).with_name("accept_loop.c")], check=True)
    return program


def bare(rig: Rig, program: Path, kind: str, seconds: float) -> dict[str, Any]:
    """The same flood, and a call, past a loop that accepts everything; its part of a core is of the flood's time."""
    rules = [(family, way, n) for family in ("iptables", "ip6tables") for n, way in ((1, "-i"), (2, "-o"))]

    def divert(word: str) -> None:
        for family, way, number in rules:
            words = [family, "-w", "-t", "mangle", word, "FORWARD", way, "lan0", "-j", "NFQUEUE", "--queue-num", number]
            subprocess.run(rig.command("gateway", list(map(str, words))), check=True)

    divert("-A")
    loop = subprocess.Popen(rig.command("gateway", [str(program), "1", "2"]), stdout=PIPE, text=True)
    try:
        assert loop.stdout is not None
        loop.stdout.readline()
        with flood(rig, kind, RATES[kind], seconds + 2):
            time.sleep(1)
            call = call_result(finish(start_endpoint(rig, CALLER, "call", "--seconds", seconds)))
        loop.terminate()
        told = json.loads(loop.communicate()[0])
    finally:
        loop.kill()
        divert("-D")
    return {
        "bare_cpu": round(told["seconds"] / (seconds + 2), 2),
        "bare_packets": told["packets"],
        "bare_p99_up_ms": round(call.percentile("up", 99) / MILLISECOND, 2),
    }


def do_without_translation(rig: Rig) -> None:
    """Have the far side know the way to the hosts: so that nothing but the gate wants connections tracked."""
    for family in ("iptables", "ip6tables"):
        subprocess.run(rig.command("gateway", [family, "-w", "-t", "nat", "-F"]), check=True)
    for subnet, line, far in (
        ("10.7.0.0/16", "192.0.2.2", "100.64.0.1"),
        ("fd07::/64", "2001:db8:0::2", "2001:db8:ff:0::1"),
    ):
        for index, via in (("line-line", line), ("far", far)):
            subprocess.run(rig.command(index, ["ip", "route", "add", subnet, "via", via]), check=True)


def stolen() -> float:
    """Seconds of processors that the host has taken from this machine."""
    return int(Path("/proc/stat").read_text().split("\n", 1)[0].split()[8]) / 100


def gate_process(running: Running) -> int:
    """The gate itself, which `ip netns exec` has become."""
    return running.process.pid


def main(arguments: list[str]) -> None:
    """Run them."""
    seconds = float(arguments[0]) if arguments else 60.0
    kinds = arguments[1:] or list(RATES)
    with tempfile.TemporaryDirectory() as folder:
        plan = Path(folder) / "plan.yaml"
        plan.write_text(PLAN)
        rig = Rig("floods")
        rig.down()
        rig.up(Layout(load(plan), "floods", hosts=8), {})
        try:
            do_without_translation(rig)
            program = built(Path(folder))
            for kind in kinds:
                running = Running(rig, Path(folder) / "state", "--plan", str(plan)).wait()
                try:
                    print(json.dumps(measure(rig, running, kind, seconds)), flush=True)
                except Exception as error:
                    print(f"{kind}: {error!r}", flush=True)
                finally:
                    print("    " + running.end()[-1500:].replace("\n", "\n    "), flush=True)
                if program is not None:
                    print(json.dumps(bare(rig, program, kind, min(seconds, BARE_SECONDS))), flush=True)
        finally:
            rig.down()


if __name__ == "__main__":
    main(sys.argv[1:])
