"""A gate under everything at a time: `python -m benchmarks.soak MINUTES [SEED]`; root.

A rig with a call and TCP in both directions all the time, over a line with jitter, and a second line whose rate varies.
At random, something is done to the gate every few seconds: a flood, another plan on trial (kept, undone or left), a
process beside it killed or stopped, the gate itself stopped for a while or killed and started again, its disk filled,
made read-only or its databases locked, its chains, rules or routes flushed, the second line cut or its interface taken
down, ports mapped by hosts, or a crowd watching. The call is on the first line, which is never cut.
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
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from subprocess import PIPE

from benchmarks.floods import RATES, flood, resident
from tests.conftest import SMALL_PLAN
from tests.gate.running import Running
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import BUFFER, Host, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND, SECOND

MOBILE = "  mobile: {interface: wan1, down: 4 to 20 Mbit/s, up: 2 to 8 Mbit/s, headroom: 3%, probe: [198.51.100.10]}\n"
PLAN = SMALL_PLAN.replace("port: 5004-5005", "remote-port: 7000").replace(
    "rules:\n", "rules:\n  - {name: Calls by what they are, service: calls, queue: calls}\n"
).replace("limiters:\n", "limiters:\n  month: {local: house, up: 30 Mbit/s, quota: 100 GB per month}\n").replace(
    "networks:\n", MOBILE + "networks:\n"
) + """\
routes:
  - {name: Spare, local: 10.7.0.102, uplink: mobile, else: line}
  - {name: Rest, uplink: line, else: mobile}
mappings:
  - {local: 10.7.0.100, port: 3000-3999, lifetime: 1 h}
"""  # fmt: skip
JITTER = 2 * MILLISECOND
# Asks for so many ports (RFC 6886), and reads the answers.
ASK = """
import socket, struct, sys
end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
end.bind(("10.7.0.100", 0))
end.settimeout(0.5)
answered = 0
for port in range(3000, 3000 + int(sys.argv[1])):
    end.sendto(struct.pack(">BBHHHI", 0, 1, 0, port, 0, int(sys.argv[2])), ("10.7.0.1", 5351))
    try:
        answered += end.recv(100)[2:4] == bytes(2)
    except TimeoutError:
        pass
print(answered)
"""
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
        how = self.drawn.choice((signal.SIGKILL, signal.SIGTERM))
        try:
            self.said.append(self.running.end(how))
        except subprocess.TimeoutExpired:
            listed = subprocess.run(
                ["ps", "axo", "pid,ppid,stat,wchan:24,args"], capture_output=True, text=True, check=True
            )
            left = "\n".join(line[:160] for line in listed.stdout.splitlines() if "wily_sluice" in line)
            self.troubles.append(f"the gate did not end by {how.name}:\n{left}")
            print(self.troubles[-1], flush=True)
            self.running.process.kill()
        self.running = Running(self.rig, self.state).wait()
        revision = self.running.call("gate.status")["revision"]
        if revision != self.kept:
            self.troubles.append(f"revision {revision} began, and {self.kept} was kept")
            self.kept = revision

    def fill_disk(self) -> None:
        filler = self.state / "filler"
        try:
            with suppress(OSError), filler.open("wb") as file:
                while True:
                    file.write(bytes(1 << 16))
            self.apply()
            time.sleep(2)
        finally:
            filler.unlink(missing_ok=True)

    def refuse_writing(self) -> None:
        # What is open stays so; whatever is opened meanwhile is on a file system that refuses to be written to.
        subprocess.run(["mount", "--bind", str(self.state), str(self.state)], check=True)
        try:
            subprocess.run(["mount", "-o", "remount,bind,ro", str(self.state)], check=True)
            self.apply()
            time.sleep(3)
        finally:
            subprocess.run(["umount", "-l", str(self.state)], check=True)

    def lock(self) -> None:
        name = self.drawn.choice(("plans", "quotas", "counters"))
        database = sqlite3.connect(self.state / f"{name}.sqlite", timeout=5)
        try:
            with suppress(sqlite3.Error):
                database.execute("begin exclusive")
                self.apply()
                time.sleep(2)
        finally:
            database.close()

    def flush(self) -> None:
        command = self.drawn.choice(
            ("iptables -w -t mangle -F FORWARD", "ip6tables -w -t mangle -F SLUICE", "iptables -w -t mangle -F")
        )
        subprocess.run(self.rig.command("gateway", ["sh", "-c", command]), check=True)
        time.sleep(2.5)

    def flush_routes(self) -> None:
        command = self.drawn.choice(
            ("ip rule flush protocol 171", "ip route flush table 7101", "ip route flush table 7102")
        )
        subprocess.run(self.rig.command("gateway", ["sh", "-c", command]), check=True)
        time.sleep(2.5)

    def cut(self) -> None:
        self.rig.cut("mobile", silent=self.drawn.random() < 0.5)
        time.sleep(self.drawn.uniform(1, 8))
        self.rig.repair("mobile")

    def lose_interface(self) -> None:
        command = "ip link set wan1 down; sleep 2; ip link set wan1 up"
        subprocess.run(self.rig.command("gateway", ["sh", "-c", command]), check=True)
        self.rig.repair("mobile")

    def use_spare(self) -> None:
        finish(start_endpoint(self.rig, Host("house", "10.7.0.102"), "load", "down", "--flows", 2, "--seconds", 5))

    def map_ports(self) -> None:
        words = [sys.executable, "-c", ASK, str(self.drawn.choice((1, 40))), str(self.drawn.choice((0, 2, 600)))]
        subprocess.run(self.rig.command("house", words), check=True, capture_output=True, timeout=60)

    def watch(self) -> None:
        for _ in range(5):
            with self.running.client(watching=True) as client:
                client.call("gate.status")
        words = self.rig.command("gateway", [sys.executable, "-m", "wily_sluice", "watch", "--json"])
        watching = [subprocess.Popen(words, stdout=PIPE, stderr=PIPE) for _ in range(4)]
        time.sleep(6)
        for one in watching:
            one.terminate()
            one.communicate()

    def anything(self) -> None:
        """One of them."""
        deeds: list[Callable[[], None]] = [
            self.flood, self.apply, self.apply, self.kill_beside, self.stop_beside, self.stop_gate, self.restart,
            self.fill_disk, self.refuse_writing, self.lock, self.flush, self.flush_routes, self.cut, self.use_spare,
            self.lose_interface, self.map_ports, self.map_ports, self.watch,
        ]  # fmt: skip
        deed = self.drawn.choice(deeds)
        self.did[deed.__name__] = self.did.get(deed.__name__, 0) + 1
        print(f"    {deed.__name__}", flush=True)
        try:
            deed()
        except LiveError as error:
            if self.running.process.poll() is not None:
                self.troubles.append(f"the gate ended at {deed.__name__}: {self.running.end()[-800:]}")
                self.running = Running(self.rig, self.state).wait()
            else:
                self.did[f"{deed.__name__}: {error}"[:60]] = 1
                print(f"    {error}", flush=True)


@contextmanager
def standing(plan: Plan) -> Iterator[Rig]:
    """A rig whose first line has jitter, and whose second has a course that repeats what a radio line does."""
    rig = Rig("soak")
    rig.down()
    line, mobile = plan.uplinks
    course = tuple(
        (n * 20 * SECOND, rate) for n, rate in enumerate((16_000_000, 7_000_000, 12_000_000, 5_000_000) * 60)
    )
    figures = {
        line.name: LineFigures(line.down, line.up, 10 * MILLISECOND, BUFFER, line.framing, jitter=JITTER),
        mobile.name: LineFigures(
            16_000_000, 6_000_000, 25 * MILLISECOND, BUFFER, mobile.framing, {"down": course}, JITTER
        ),
    }
    rig.up(Layout(plan, "soak", hosts=8), figures)
    for process in rig.processes("line-mobile"):
        signal.pidfd_send_signal(os.pidfd_open(process), signal.SIGUSR1)
    try:
        yield rig
    finally:
        rig.down()


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
            with standing(load(folder / "plan.yaml")) as rig:
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
                    now = sum(resident(soak.running.process.pid).values())
                    about = {"call p99 ms": round(p99, 1), "lost": found["lost"], "broken": broken, "mib": now >> 20}
                    print(json.dumps(about), flush=True)
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
