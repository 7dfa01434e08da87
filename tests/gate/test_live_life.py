"""The life of a plan on a real gate: applied under load, kept, undone by itself, and what a killing leaves of it."""

import json
import os
import random
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from base64 import b64encode
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from subprocess import PIPE
from typing import Any

import pytest

from tests.conftest import SMALL_PLAN
from wily_sluice.control.client import Client
from wily_sluice.control.json_rpc import BUSY, REFUSED, RpcError
from wily_sluice.control.paths import RUN
from wily_sluice.gate.errors import LiveError
from wily_sluice.gate.rig.layout import FAR_ADDRESSES
from wily_sluice.gate.rig.rig import Rig
from wily_sluice.gate.rig.trial import Host, built, finish, start_endpoint
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.plan.read import load
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live

PLAN = SMALL_PLAN.replace("port: 5004-5005", "port: 7000")
# What each plan lets up: told apart by what passes.
PLANS = {rate: PLAN.replace("up: 10 Mbit/s", f"up: {rate} Mbit/s") for rate in (10, 8, 6, 4)}
HOST, CALLER = Host("house", "10.7.0.100"), Host("house", "10.7.0.101")


@pytest.fixture(scope="module")
def rig(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Rig]:
    file = tmp_path_factory.mktemp("life") / "sluice.yaml"
    file.write_text(PLAN)
    with built(load(file), f"life{os.getpid()}", 10 * MILLISECOND) as standing:
        yield standing


class Running:
    """A gate in the rig, spoken with from outside."""

    def __init__(self, rig: Rig, state: Path, *options: str) -> None:
        self.state = state
        inode = Path(f"/run/netns/{rig.prefix}gateway").stat().st_ino
        self.folder = RUN / f"net-{inode}"
        words = ["gate", "run", "--json", "--state", str(state), *options]
        self.process = subprocess.Popen(
            rig.command("gateway", [sys.executable, "-m", "wily_sluice", *words]),
            stdout=PIPE, stderr=PIPE, text=True, start_new_session=True,
        )  # fmt: skip

    def client(self, watching: bool = False) -> Client:
        return Client(watching, self.folder)

    def call(self, method: str, **params: Any) -> Any:
        with self.client() as client:
            return client.call(method, **params)

    def wait(self) -> "Running":
        deadline = time.monotonic() + 20
        while time.monotonic() < deadline and self.process.poll() is None:
            with suppress(LiveError, RpcError):
                self.call("gate.status")
                return self
            time.sleep(0.05)
        raise AssertionError(f"the gate did not start: {self.end()}")

    def apply(self, rate: int, trial: float | None = 60.0) -> dict[str, Any]:
        plan = b64encode(PLANS[rate].encode()).decode()
        answer: dict[str, Any] = self.call("plan.apply", plan=plan, trial=trial)
        return answer

    def until(self, what: str, value: object, seconds: float = 10.0) -> dict[str, Any]:
        """Wait for something in the status."""
        deadline = time.monotonic() + seconds
        while (status := self.call("gate.status"))[what] != value:
            assert time.monotonic() < deadline, status
            time.sleep(0.05)
        return dict(status)

    def end(self, how: signal.Signals = signal.SIGTERM) -> str:
        """What it had to say on its standard error."""
        if self.process.poll() is None:
            self.process.send_signal(how)
        return self.process.communicate(timeout=30)[1]

    def events(self) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.end().splitlines() if line.startswith("{")]


@contextmanager
def gate(rig: Rig, state: Path, plan: str | None = PLAN) -> Iterator[Running]:
    options = []
    if plan is not None:
        state.mkdir(exist_ok=True)
        (state / "given.yaml").write_text(plan)
        options = ["--plan", str(state / "given.yaml")]
    running = Running(rig, state, *options)
    try:
        yield running.wait()
    finally:
        running.end()


def up_rate(running: Running) -> int:
    return int(running.call("gate.status")["uplinks"]["line"]["up"])


def test_a_trial_that_nobody_keeps_undoes_itself_and_one_that_is_kept_starts_next_time(
    rig: Rig, tmp_path: Path
) -> None:
    with gate(rig, tmp_path) as running:
        assert running.apply(8, trial=1.5)["revision"] == 2
        assert up_rate(running) == 7_200_000
        with pytest.raises(RpcError, match=r"root is at it: trial of revision 2, since 20.*sluice keep") as busy:
            running.apply(6)
        assert busy.value.code == BUSY
        assert running.until("revision", 1)["held_by"] is None
        assert up_rate(running) == 9_000_000
        running.apply(6)
        assert running.call("plan.keep") == {"revision": 3}
        running.apply(4)
        running.end(signal.SIGKILL)
    with gate(rig, tmp_path, None) as running:  # the trial of revision 4 went with the gate
        assert (up_rate(running), running.call("gate.status")["trial"]) == (5_400_000, None)
        told = running.call("history.list")
        assert [(one["revision"], one["state"]) for one in told["revisions"]] == [
            (4, "undone"), (3, "kept"), (2, "undone"), (1, "kept"),
        ]  # fmt: skip
        assert told["revisions"][2]["why"].startswith("its time was up")
        running.apply(4)
        assert running.call("plan.reload") == {"revision": 3}
        assert running.call("plan.reload") == {"revision": 3}
        assert running.call("plan.undo")["how"] == "applied"  # back to what was kept before
        assert up_rate(running) == 9_000_000
    with gate(rig, tmp_path, None) as running:
        assert up_rate(running) == 9_000_000


def test_a_plan_that_cannot_be_used_leaves_the_old_one_running(rig: Rig, tmp_path: Path) -> None:
    with gate(rig, tmp_path) as running:
        for plan in (PLAN.replace("guarantee: 20%", "guarantee: 120%"), "site: [", "", "\x00\xff" * 100):
            with pytest.raises(RpcError, match="errors") as caught:
                running.call("plan.apply", plan=b64encode(plan.encode("latin-1")).decode())
            assert caught.value.code == REFUSED
            assert caught.value.data
        assert running.call("gate.status")["held_by"] is None
        assert (up_rate(running), running.call("gate.status")["revision"]) == (9_000_000, 1)


def test_who_may_only_watch_can_change_nothing_and_noise_on_the_sockets_is_answered(rig: Rig, tmp_path: Path) -> None:
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
        drawn = random.Random(1)
        idle = []
        for _ in range(100):
            end = socket.socket(socket.AF_UNIX)
            end.connect(str(running.folder / "watch.sock"))
            idle.append(end)
        with socket.socket(socket.AF_UNIX) as end:
            end.settimeout(10)
            end.connect(str(running.folder / "control.sock"))
            lines = end.makefile("rb")
            for _ in range(300):
                noise = bytes(drawn.randrange(256) for _ in range(drawn.randrange(1, 60))).replace(b"\n", b"")
                end.sendall((noise or b"?") + b"\n")
                assert b'"error"' in lines.readline()
            end.sendall(b'{"jsonrpc": "2.0", "method": "gate.status", "id": 7}\n')
            assert json.loads(lines.readline())["result"]["clients"] >= 101
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


def test_the_sum_over_the_queues_is_what_the_interface_counted(rig: Rig, tmp_path: Path) -> None:
    with gate(rig, tmp_path) as running, running.client() as client:
        client.call("watch.subscribe", to="seconds")
        before = interface_bytes(rig)
        span = ("--seconds", 6, "--warmup", 1)
        loads = [start_endpoint(rig, HOST, "load", way, "--flows", 3, *span) for way in ("up", "down")]
        call = start_endpoint(rig, CALLER, "call", "--seconds", 6)
        seen = {"up": 0, "down": 0}
        rules = 0
        over = time.monotonic() + 9
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


def interface_bytes(rig: Rig) -> dict[str, int]:
    """What the gateway's interfaces themselves counted as sent: up on wan0, down on those of the hosts."""
    output = subprocess.run(
        rig.command("gateway", ["cat", "/proc/net/dev"]), capture_output=True, text=True, check=True
    )
    sent = {name.strip(): int(line.split()[8]) for name, _, line in
            (line.partition(":") for line in output.stdout.splitlines()[2:])}  # fmt: skip
    return {"up": sent["wan0"], "down": sent["lan0"] + sent["lan1"]}


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


def test_a_trial_ends_at_once_when_a_remote_that_answered_no_longer_does(rig: Rig, tmp_path: Path) -> None:
    watched = PLAN + f"gate: {{health: [{', '.join(FAR_ADDRESSES)}, 192.0.2.200]}}\n"
    # Everything that no rule claims, and so the echoes, behind 4 kbit/s that somebody else keeps busy.
    choked = watched.replace("rest: {default: true}", "rest: {default: true, cap: 4 kbit/s}")
    with gate(rig, tmp_path, watched) as running:
        time.sleep(4)
        done = running.call("plan.apply", plan=b64encode(choked.encode()).decode(), trial=120)
        load = start_endpoint(rig, HOST, "load", "up", "--flows", 2, "--seconds", 8, "--warmup", 1)
        assert done["revision"] == 2
        begun = time.monotonic()
        running.until("revision", 1, seconds=20)
        assert time.monotonic() - begun < 15
        told = running.call("history.list")["revisions"][0]
        finish(load)
        kept = running.call("plan.apply", plan=b64encode((watched + "# same\n").encode()).decode(), trial=120)
        time.sleep(5)
        assert running.call("gate.status")["trial"]["revision"] == kept["revision"]
    assert told["state"] == "undone"
    assert "answered before it, and no longer did" in told["why"]
    assert any(remote in told["why"] for remote in FAR_ADDRESSES)
    assert "192.0.2.200" not in told["why"]  # which never did


def memory(running: Running) -> int:
    """Of the gate itself, in bytes."""
    fields = Path(f"/proc/{running.process.pid}/statm").read_text().split()
    return int(fields[1]) * os.sysconf("SC_PAGE_SIZE")


@pytest.mark.slow
def test_a_hundred_changes_under_load_break_nothing(rig: Rig, tmp_path: Path) -> None:
    with gate(rig, tmp_path) as running:
        for rate in (8, 6, 4, 10) * 2:
            running.apply(rate, trial=None)
        span = ("--seconds", 60, "--warmup", 1)
        loads = [start_endpoint(rig, HOST, "load", way, "--flows", 8, *span) for way in ("up", "down")]
        calls = [
            start_endpoint(rig, Host("house", f"10.7.0.{host}"), "call", "--seconds", 55) for host in range(101, 105)
        ]
        time.sleep(4)
        before = memory(running)
        begun = time.monotonic()
        for count in range(100):
            running.apply((10, 8, 6, 4)[count % 4], trial=None)
        lasted = time.monotonic() - begun
        after = memory(running)
        found = [finish(load) for load in loads]
        lost = [finish(call)["lost"] for call in calls]
    assert lasted < 50
    assert all(one["goodput"] > 1_000_000 for one in found)
    assert max(lost) <= 2, lost
    assert after < before + 4_000_000, (before, after)


@pytest.mark.slow
def test_a_killing_at_any_moment_leaves_the_history_whole_and_the_last_kept_plan(rig: Rig, tmp_path: Path) -> None:
    drawn = random.Random(7)
    kept = 10
    reached = {"nothing": 0, "applied": 0, "kept": 0}
    for count in range(50):
        with gate(rig, tmp_path, PLAN if count == 0 else None) as running:
            assert up_rate(running) == kept * 900_000
            rate = drawn.choice([rate for rate in PLANS if rate != kept])
            said = ["nothing"]
            applied = threading.Event()

            def change(
                running: Running = running, rate: int = rate, said: list[str] = said, applied: threading.Event = applied
            ) -> None:
                with suppress(LiveError, RpcError, OSError):
                    running.apply(rate)
                    said[0] = "applied"
                    applied.set()
                    running.call("plan.keep")
                    said[0] = "kept"

            changing = threading.Thread(target=change)
            changing.start()
            if count % 2 == 0:  # while it is applied
                time.sleep(drawn.uniform(0, 0.4))
            else:  # while it is kept, or a little later
                applied.wait(30)
                time.sleep(drawn.uniform(0, 0.1))
            running.process.send_signal(signal.SIGKILL)
            running.process.wait()
            changing.join()
        reached[said[0]] += 1
        store = RevisionStore(tmp_path)
        now = store.kept()
        assert now is not None
        bundle = store.bundle(now.number)
        assert bundle is not None
        rates = {text.encode(): one for one, text in PLANS.items()}
        if said[0] == "kept":
            assert rates[bundle.plan] == rate
        elif said[0] == "nothing":
            assert rates[bundle.plan] == kept
        kept = rates[bundle.plan]
        store.close()
        database = sqlite3.connect(tmp_path / "plans.sqlite")
        assert database.execute("pragma integrity_check").fetchone() == ("ok",)
        database.close()
    assert min(reached["nothing"], reached["kept"]) >= 5, reached
    goodput = finish(start_endpoint(rig, HOST, "load", "up", "--flows", 4, "--seconds", 5, "--warmup", 5))["goodput"]
    assert goodput > 9_200_000 * 1448 / 1518  # the line's 10 Mbit/s, and not the 9 that the gate would let through
