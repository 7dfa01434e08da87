"""A gate under everything at a time: `python -m benchmarks.soak MINUTES [SEED]`; root.

A rig with a call and TCP in both directions all the time. At random, something is done to the gate every few seconds:
a flood, another plan on trial (kept, undone or left), a process beside it killed or stopped, the gate itself stopped
for a while or killed and started again, its disk filled, made read-only or its databases locked, its chains flushed.
Prints what happened, and at the end what was lost: packets of the call, connections that came to nothing, revisions,
memory.
"""

import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from base64 import b64encode
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from benchmarks.floods import RATES, flood, resident
from tests.conftest import SMALL_PLAN
from tests.gate.running import Running
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, built, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND

PLAN = SMALL_PLAN.replace("port: 5004-5005", "remote-port: 7000").replace(
    "rules:\n", "rules:\n  - {name: Calls by what they are, service: calls, queue: calls}\n"
).replace("limiters:\n", "limiters:\n  month: {local: house, up: 30 Mbit/s, quota: 100 GB per month}\n")  # fmt: skip
UP = (10, 8, 6, 4)
CYCLE = 30.0  # seconds of a call, and of the TCP beside it
DISK = 24 << 20  # bytes


class Soak:
    """One gate, and what is done to it."""

    def __init__(self, rig: Rig, folder: Path, drawn: random.Random) -> None:
        self.rig, self.folder, self.drawn = rig, folder, drawn
        self.state = folder / "state"
        self.given = folder / "plan.yaml"
        self.given.write_text(PLAN)
        self.running = Running(rig, self.state, "--plan", str(self.given)).wait()
        self.kept = 1
        self.did: dict[str, int] = {}
        self.troubles: list[str] = []
        self.said: list[str] = []

    def flood(self) -> None:
        kind = self.drawn.choice([kind for kind in RATES if kind not in ("none", "udp-200k")])
        with flood(self.rig, kind, min(RATES[kind], 20_000), 4):
            time.sleep(3)

    def apply(self) -> None:
        plan = PLAN.replace("up: 10 Mbit/s", f"up: {self.drawn.choice(UP)} Mbit/s") + f"# {time.time_ns()}\n"
        trial = self.drawn.choice((None, 2.0, 30.0))
        with suppress(RpcError):
            done = self.running.call("plan.apply", plan=b64encode(plan.encode()).decode(), trial=trial)
            if trial is None:
                self.kept = done["revision"]
            elif self.drawn.random() < 0.5:
                self.kept = self.running.call("plan.keep")["revision"]
            elif self.drawn.random() < 0.5:
                self.running.call("plan.undo")

    def _children(self) -> list[int]:
        return [one for one in resident(self.running.process.pid) if one != self.running.process.pid]

    def kill_beside(self) -> None:
        os.kill(self.drawn.choice(self._children()), signal.SIGKILL)
        time.sleep(4)

    def stop_beside(self) -> None:
        victim = self.drawn.choice(self._children())
        os.kill(victim, signal.SIGSTOP)
        time.sleep(self.drawn.uniform(0.5, 3))
        os.kill(victim, signal.SIGCONT)

    def stop_gate(self) -> None:
        os.kill(self.running.process.pid, signal.SIGSTOP)
        time.sleep(self.drawn.uniform(0.1, 1))
        os.kill(self.running.process.pid, signal.SIGCONT)

    def restart(self) -> None:
        self.said.append(self.running.end(self.drawn.choice((signal.SIGKILL, signal.SIGTERM))))
        self.running = Running(self.rig, self.state).wait()
        revision = self.running.call("gate.status")["revision"]
        if revision != self.kept:
            self.troubles.append(f"revision {revision} began, and {self.kept} was kept")
            self.kept = revision

    def fill_disk(self) -> None:
        filler = self.state / "filler"
        with suppress(OSError), filler.open("wb") as file:
            while True:
                file.write(bytes(1 << 16))
        self.apply()
        time.sleep(2)
        filler.unlink(missing_ok=True)

    def refuse_writing(self) -> None:
        # What is open stays so; whatever is opened meanwhile is on a file system that refuses to be written to.
        subprocess.run(["mount", "--bind", str(self.state), str(self.state)], check=True)
        subprocess.run(["mount", "-o", "remount,bind,ro", str(self.state)], check=True)
        self.apply()
        time.sleep(3)
        subprocess.run(["umount", "-l", str(self.state)], check=True)

    def lock(self) -> None:
        name = self.drawn.choice(("plans", "quotas", "counters"))
        database = sqlite3.connect(self.state / f"{name}.sqlite", timeout=5)
        with suppress(sqlite3.Error):
            database.execute("begin exclusive")
            self.apply()
            time.sleep(2)
        database.close()

    def flush(self) -> None:
        command = self.drawn.choice(
            ("iptables -w -t mangle -F FORWARD", "ip6tables -w -t mangle -F SLUICE", "iptables -w -t mangle -F")
        )
        subprocess.run(self.rig.command("gateway", ["sh", "-c", command]), check=True)
        time.sleep(2.5)

    def anything(self) -> None:
        """One of them."""
        deeds: list[Callable[[], None]] = [
            self.flood, self.apply, self.apply, self.kill_beside, self.stop_beside, self.stop_gate, self.restart,
            self.fill_disk, self.refuse_writing, self.lock, self.flush,
        ]  # fmt: skip
        deed = self.drawn.choice(deeds)
        self.did[deed.__name__] = self.did.get(deed.__name__, 0) + 1
        try:
            deed()
        except LiveError as error:
            if self.running.process.poll() is not None:
                self.troubles.append(f"the gate ended at {deed.__name__}: {self.running.end()[-800:]}")
                self.running = Running(self.rig, self.state).wait()
            else:
                self.did[f"{deed.__name__}: {error}"[:60]] = 1


def main(minutes: str, seed: str = "") -> None:
    """Soak it."""
    number = int(seed) if seed else time.time_ns() & 0xFFFF
    print(f"drawn by {number}", flush=True)
    ends = time.monotonic() + float(minutes) * 60
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "state").mkdir()
        (folder / "plan.yaml").write_text(PLAN)
        disk = ["mount", "-t", "tmpfs", "-o", f"size={DISK}", "tmpfs", str(folder / "state")]
        subprocess.run(disk, check=True)
        try:
            with built(load(folder / "plan.yaml"), "soak", 10 * MILLISECOND) as rig:
                soak = Soak(rig, folder, random.Random(number))
                sent = lost = broken = 0
                first = most = sum(resident(soak.running.process.pid).values())
                while time.monotonic() < ends:
                    call = start_endpoint(rig, Host("house", "10.7.0.101"), "call", "--seconds", CYCLE)
                    loads = [
                        start_endpoint(rig, Host("house", "10.7.0.100"), "load", way, "--flows", 2, "--seconds", CYCLE)
                        for way in ("up", "down")
                    ]
                    over = time.monotonic() + CYCLE - 3
                    while time.monotonic() < over:
                        soak.anything()
                        most = max(most, sum(resident(soak.running.process.pid).values()))
                    found = finish(call)
                    sent, lost = sent + found["sent"], lost + found["lost"]
                    p99 = call_result(found).percentile("up", 99) / MILLISECOND
                    for one in loads:
                        with suppress(LiveError):
                            broken += finish(one)["goodput"] < 10_000
                            continue
                        broken += 1
                    print(
                        json.dumps({"call p99 ms": round(p99, 1), "lost": found["lost"], "broken": broken}), flush=True
                    )
                time.sleep(3)
                last = sum(resident(soak.running.process.pid).values())
                said = "".join([*soak.said, soak.running.end()])
        finally:
            subprocess.run(["umount", "-l", str(folder / "state")], check=True)
    events: dict[str, int] = {}
    for line in said.splitlines():
        if line.startswith("{"):
            event = json.loads(line)["event"]
            events[event] = events.get(event, 0) + 1
        elif line.strip():
            soak.troubles.append(line)
    print(f"done: {soak.did}\ntold: {events}")
    print(f"the call lost {lost:,} of {sent:,} packets; {broken} TCP loads came to nothing")
    print(f"memory of all processes: {first >> 20} MiB at first, at most {most >> 20}, at last {last >> 20}")
    print(f"troubles: {soak.troubles or 'none'}")


if __name__ == "__main__":
    main(*sys.argv[1:])
