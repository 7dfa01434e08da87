"""The life of a plan on a real gate: applied under load, kept, undone by itself, and what a killing leaves of it."""

import os
import random
import signal
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

import pytest

from tests.gate.running import HOST, PLAN, PLANS, Running, confined, gate, up_rate
from wily_sluice.errors import BUSY, REFUSED, LiveError, RpcError
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.rig.layout import FAR_ADDRESSES
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, start_endpoint

pytestmark = pytest.mark.live


@pytest.mark.room
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
        assert told["revisions"][2]["why"].startswith("it was not kept in time")
        running.apply(4)
        assert running.call("plan.undo")["revision"] == 3  # the trial ends
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


def test_a_trial_ends_at_once_when_a_remote_that_answered_no_longer_does(rig: Rig, tmp_path: Path) -> None:
    watched = PLAN + f"gate: {{probe: [{', '.join(FAR_ADDRESSES)}, 192.0.2.200]}}\n"
    # Everything that no rule claims, and so the echoes, behind 4 kbit/s that somebody else keeps busy.
    choked = watched.replace("rest: {default: true}", "rest: {default: true, cap: 4 kbit/s}")
    with gate(rig, tmp_path, watched, confined(tmp_path)) as running:
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


# At one end of an administrator's connection whatever is typed comes back; at the other each line of the standard input
# says for how long to wait, once a key is struck, until all that were struck have come back.
REMOTE_SHELL = """
import socket
peer, _ = socket.create_server(("198.51.100.10", 2222)).accept()
while data := peer.recv(100):
    peer.sendall(data)
"""
KEYBOARD = """
import socket, sys, time
end = socket.create_connection(("198.51.100.10", 2222), source_address=("10.7.0.103", 40123))
end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
struck = back = 0
for line in sys.stdin:
    end.sendall(b"k")
    struck, over = struck + 1, time.monotonic() + float(line)
    while back < struck and (left := over - time.monotonic()) > 0:
        end.settimeout(left)
        try:
            back += len(end.recv(100))
        except TimeoutError:
            break
    print(back == struck, flush=True)
"""


class Administrator:
    """Somebody far from the host that they are at work on: a connection through the gate."""

    def __init__(self, rig: Rig) -> None:
        self._shell = subprocess.Popen(rig.command("far", [sys.executable, "-c", REMOTE_SHELL]))
        time.sleep(0.5)
        keyboard = rig.command("house", [sys.executable, "-c", KEYBOARD])
        self._keyboard = subprocess.Popen(keyboard, stdin=PIPE, stdout=PIPE, text=True)

    def is_answered(self, seconds: float) -> bool:
        """Strike a key: whether that, and all before it, come back within so long."""
        assert self._keyboard.stdin is not None and self._keyboard.stdout is not None
        self._keyboard.stdin.write(f"{seconds}\n")
        self._keyboard.stdin.flush()
        return self._keyboard.stdout.readline() == "True\n"

    def leave(self) -> None:
        for end in (self._keyboard, self._shell):
            end.kill()
            end.communicate()


@contextmanager
def administrator(rig: Rig) -> Iterator[Administrator]:
    there = Administrator(rig)
    try:
        yield there
    finally:
        there.leave()


def test_a_plan_that_cuts_the_administrator_off_is_gone_when_its_time_is_up(rig: Rig, tmp_path: Path) -> None:
    cut_off = PLAN.replace("rest: {default: true}", "rest: {default: true, cap: 1 kbit/s}")
    with gate(rig, tmp_path) as running:
        load = start_endpoint(rig, HOST, "load", "up", "--flows", 2, "--seconds", 30, "--warmup", 1)
        with administrator(rig) as there:
            assert there.is_answered(5)
            who = {"protocol": 6, "local": "10.7.0.103", "remote": FAR_ADDRESSES[0], "remote_port": 2222}
            going = running.call("classify.look", **who, local_port=40123)["going"]
            assert {(one["direction"], one["queue"], one["rule"]) for one in going} == {
                ("up", "rest", ""), ("down", "rest", ""),
            }  # fmt: skip
            assert running.call("classify.look", **who, local_port=40124) is None
            applied = time.monotonic()
            running.call("plan.apply", plan=b64encode(cut_off.encode()).decode(), trial=6)
            while there.is_answered(0.5):  # what is let through at first, before the cap is felt
                assert time.monotonic() < applied + 4
            running.until("revision", 1)  # nobody touches anything
            assert applied + 5 < time.monotonic() < applied + 11
            # The connection is still there. Its host tries again by ever longer steps, the next within six seconds.
            assert there.is_answered(15)
            assert there.is_answered(3)
        load.kill()
        load.communicate()


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
    kept, usual = 10, [0.4]  # how long a change takes on this machine, to be killed somewhere in it
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
                    begun = time.monotonic()
                    running.apply(rate)
                    said[0] = "applied"
                    applied.set()
                    running.call("plan.keep")
                    said[0] = "kept"
                    usual[0] = time.monotonic() - begun

            changing = threading.Thread(target=change)
            changing.start()
            if count % 2 == 0:  # while it is applied
                time.sleep(drawn.uniform(0, usual[0]))
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
