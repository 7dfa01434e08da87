"""A gate that hangs is ended, and one that is only slow, or on a machine that stands still, is not."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from wily_sluice.gate.kernel.process import STILL, STILL_BUSY

# Beats as the gate does, with a child that watches; then does what it is told.
PARENT = """
import os, subprocess, sys, time
from wily_sluice.gate.kernel.process import Heart
heart = Heart()
words = [sys.executable, "-c", sys.argv[2], str(heart.descriptor), str(os.getpid())]
child = subprocess.Popen(words, pass_fds=[heart.descriptor])
for _ in range(20):
    heart.beat()
    time.sleep(0.05)
print("beating", flush=True)
begun = time.monotonic()
match sys.argv[1]:
    case "hangs":
        time.sleep(8)
    case "works":
        while time.monotonic() - begun < 2.5:
            pass
    case "loops":
        while time.monotonic() - begun < 20:
            pass
    case "rests":
        heart.rest()
        time.sleep(3)
    case "beats":
        while time.monotonic() - begun < 3:
            heart.beat()
            time.sleep(0.4)
print("lived", flush=True)
heart.rest()
child.kill()
"""
CHILD = """
import sys
from wily_sluice.gate.kernel.process import Heart, watch_over
watch_over(Heart(int(sys.argv[1])), int(sys.argv[2]), lambda seconds: print(f"hung {seconds:.1f}", flush=True))
"""


def begun(how: str) -> "subprocess.Popen[str]":
    process = subprocess.Popen([sys.executable, "-c", PARENT, how, CHILD], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None and process.stdout.readline() == "beating\n"
    return process


@pytest.mark.parametrize(("how", "within"), [("hangs", STILL), ("loops", STILL_BUSY)])
def test_one_that_hangs_is_ended(how: str, within: float) -> None:
    process, since = begun(how), time.monotonic()
    out, _ = process.communicate(timeout=20)
    assert process.returncode == -signal.SIGKILL and out.startswith("hung ")
    assert within - 0.5 < time.monotonic() - since < within + 3


@pytest.mark.parametrize("how", ["works", "rests", "beats"])
def test_one_that_is_slow_or_at_rest_lives_on(how: str) -> None:
    process = begun(how)
    out, _ = process.communicate(timeout=20)
    assert (process.returncode, out) == (0, "lived\n")


def test_a_machine_that_stands_still_ends_nobody() -> None:
    """Both are stopped together, as on a machine that was suspended."""
    process = begun("beats")
    child = int(Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()[0])
    for number in (child, process.pid):
        os.kill(number, signal.SIGSTOP)
    time.sleep(3)
    for number in (process.pid, child):
        os.kill(number, signal.SIGCONT)
    out, _ = process.communicate(timeout=20)
    assert (process.returncode, out) == (0, "lived\n")
