"""A gate in a rig, run as a person does and spoken with from outside."""

import json
import re
import signal
import subprocess
import sys
import time
from base64 import b64encode
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from subprocess import PIPE
from typing import Any

from tests.conftest import SMALL_PLAN
from wily_sluice.control.client import Client
from wily_sluice.control.unit import unit_text
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.gate.kernel.process import RUN
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host

PLAN = SMALL_PLAN.replace("port: 5004-5005", "port: 7000")
# What each plan lets up: told apart by what passes.
PLANS = {rate: PLAN.replace("up: 10 Mbit/s", f"up: {rate} Mbit/s") for rate in (10, 8, 6, 4)}
HOST, CALLER = Host("house", "10.7.0.100"), Host("house", "10.7.0.101")


class Running:
    """A gate in the rig, spoken with from outside."""

    def __init__(self, rig: Rig, state: Path, *options: str, before: Sequence[str] = ()) -> None:
        self.state = state
        inode = Path(f"/run/netns/{rig.prefix}gateway").stat().st_ino
        self.folder = RUN / f"net-{inode}"
        words = ["gate", "run", "--json", "--state", str(state), *options]
        self.process = subprocess.Popen(
            rig.command("gateway", [*before, sys.executable, "-m", "wily_sluice", *words]),
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
def gate(rig: Rig, state: Path, plan: str | None = PLAN, before: Sequence[str] = ()) -> Iterator[Running]:
    options = []
    if plan is not None:
        state.mkdir(exist_ok=True)
        (state / "given.yaml").write_text(plan)
        options = ["--plan", str(state / "given.yaml")]
    running = Running(rig, state, *options, before=before)
    try:
        yield running.wait()
    finally:
        running.end()


def up_rate(running: Running) -> int:
    return int(running.call("gate.status")["uplinks"]["line"]["up"])


def interface_bytes(rig: Rig) -> dict[str, int]:
    """What the gateway's interfaces themselves counted as sent: up on wan0, down on those of the hosts."""
    output = subprocess.run(
        rig.command("gateway", ["cat", "/proc/net/dev"]), capture_output=True, text=True, check=True
    )
    sent = {name.strip(): int(line.split()[8]) for name, _, line in
            (line.partition(":") for line in output.stdout.splitlines()[2:])}  # fmt: skip
    return {"up": sent["wan0"], "down": sent["lan0"] + sent["lan1"]}


# Has a command open no sockets but of these families: a seccomp filter (seccomp(2)) on the number of socket(2).
FAMILIES_ONLY = """
import ctypes, os, platform, socket, struct, sys
number = {"x86_64": 41, "aarch64": 198}[platform.machine()]
families = [getattr(socket, word, None) for word in sys.argv[1].split()]
program = [(0x20, 0, 0, 0), (0x15, 0, len(families) + 2, number), (0x20, 0, 0, 16)]
program += [(0x15, len(families) - index, 0, int(family)) for index, family in enumerate(families)]
program += [(6, 0, 0, 0x50000 | 97), (6, 0, 0, 0x7FFF0000)]  # EAFNOSUPPORT, or allowed
raw = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *one) for one in program))
shape = struct.pack("@HP", len(program), ctypes.addressof(raw))
if ctypes.CDLL(None, use_errno=True).prctl(22, 2, ctypes.c_char_p(shape), 0, 0):
    raise OSError(ctypes.get_errno(), "no filter")
os.execvp(sys.argv[2], sys.argv[2:])
"""


def confined(folder: Path) -> list[str]:
    """What gives a command no more than the service has, by its unit: its capabilities, and its families of sockets."""
    unit = unit_text(folder)
    assert "IPAddressDeny" not in unit  # which would keep the health checks from asking anybody
    allowed, families = (
        re.search(rf"^{word}=(.*)$", unit, re.MULTILINE)
        for word in ("CapabilityBoundingSet", "RestrictAddressFamilies")
    )
    assert allowed is not None and families is not None
    capabilities = ",".join(f"+{word.removeprefix('CAP_').lower()}" for word in allowed[1].split())
    filtered = [sys.executable, "-c", FAMILIES_ONLY, families[1]]
    return ["setpriv", f"--bounding-set=-all,{capabilities}", "--no-new-privs", *filtered]
