"""Builds a rig, runs commands in it, and takes it down. The namespaces themselves are its only record.

Whatever runs in a rig's namespaces belongs to the rig: taking it down ends those processes and no others.
"""

import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import PYTHON, require, run
from wily_sluice.rig.awake_program import on_virtual_machine
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout, LineFigures

PATIENCE = 10.0  # seconds for a process to begin or to end
LOGS = Path("/run")
STATE = "SLUICE_STATE"  # what the gate in a rig keeps is apart from the machine's own
CONGESTION = ("cubic", "reno")  # RFC 9438, RFC 5681: they fill a deep buffer, as most hosts do


class Rig:
    """A rig by its name. Making the object changes nothing."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.prefix = f"sluice-{name}."
        self.logs = LOGS / f"sluice-{name}"
        self.far_addresses = FAR_ADDRESSES

    def namespaces(self) -> list[str]:
        """The namespaces of this rig that there are."""
        listed = run(["ip", "netns", "list"]).stdout.split("\n")
        return sorted(name for line in listed if (name := line.split(" ")[0]).startswith(self.prefix))

    def nodes(self) -> list[str]:
        """The same, as a person names them."""
        return [name.removeprefix(self.prefix) for name in self.namespaces()]

    def processes(self, node: str) -> list[int]:
        """What runs on a node."""
        return [int(pid) for pid in run(["ip", "netns", "pids", self.prefix + node]).stdout.split()]

    def up(self, layout: Layout, figures: dict[str, LineFigures]) -> None:
        """Build it, with a line of these figures for each uplink. LiveError, after cleaning up, if it fails."""
        _refuse_unless_root()
        require("ip", "iptables", "ip6tables")
        if self.namespaces():
            raise LiveError(f"the rig “{self.name}” is up already: `sluice rig down` first")
        self.far_addresses = layout.far_addresses
        try:
            self._build(layout)
            for uplink, line in figures.items():
                frame = (line.framing.overhead, line.framing.minimum, line.framing.cells or "none")
                figures_of_line = (line.down, line.up, line.delay, line.jitter, line.buffer)
                self._start(f"line-{uplink}", ["line_program", *figures_of_line, *frame, json.dumps(line.courses)])
            self._start("far", ["endpoint", "serve", *self.far_addresses])
            if on_virtual_machine():
                self._start("gateway", ["awake_program"])
        except BaseException:
            self.down()
            raise

    def _build(self, layout: Layout) -> None:
        for namespace in layout.namespaces():
            run(["ip", "netns", "add", namespace])
        run(["ip", "-batch", "-"], stdin="\n".join(layout.link_commands()) + "\n")
        self.logs.mkdir(exist_ok=True)
        for namespace, lines in layout.address_commands().items():
            node = namespace.removeprefix(self.prefix)
            if node.startswith("line-"):
                again = [line.replace(" add ", " replace ") for line in lines if " add " in line]
                (self.logs / f"{node}.again").write_text("\n".join(again) + "\n")
            self._sysctl(namespace, forward=namespace.endswith(".gateway") or ".line-" in namespace)
            run(["ip", "-n", namespace, "-batch", "-"], stdin="\n".join(lines) + "\n")
        gateway = layout.namespace("gateway")
        for family in ("iptables", "ip6tables"):
            for uplink in layout.plan.uplinks:
                rule = ["-A", "POSTROUTING", "-o", uplink.interface, "-j", "MASQUERADE"]
                run(["ip", "netns", "exec", gateway, family, "-w", "-t", "nat", *rule])

    def _sysctl(self, namespace: str, forward: bool) -> None:
        settings = {
            "ipv4/tcp_no_metrics_save": "1",
            "ipv6/conf/default/accept_dad": "0",
            "ipv4/ip_nonlocal_bind": "1",
            "ipv6/ip_nonlocal_bind": "1",
        }
        if forward:
            settings |= {"ipv4/ip_forward": "1", "ipv6/conf/all/forwarding": "1"}
        script = "set -e; " + "".join(f"echo {value} > /proc/sys/net/{key}; " for key, value in settings.items())
        # The kernel may keep a namespace from choosing one of these; then the next one does.
        choices = (f"echo {name} > /proc/sys/net/ipv4/tcp_congestion_control 2> /dev/null" for name in CONGESTION)
        run(["ip", "netns", "exec", namespace, "sh", "-c", f"{script} {' || '.join(choices)} || true"])

    def cut(self, uplink: str, silent: bool = False) -> None:
        """Cut a line: the gateway loses its link, or keeps it if the cut is `silent`. LiveError when there is none."""
        run(["ip", "-n", self._line(uplink), "link", "set", "far" if silent else "near", "down"])

    def repair(self, uplink: str) -> None:
        """End a cut of either kind. With a link go its addresses of IPv6 and all routes over it; they come back."""
        line = self._line(uplink)
        for end in ("near", "far"):
            run(["ip", "-n", line, "link", "set", end, "up"])
        run(["ip", "-n", line, "-force", "-batch", "-"], stdin=(self.logs / f"line-{uplink}.again").read_text())

    def _line(self, uplink: str) -> str:
        node = f"line-{uplink}"
        nodes = self.nodes()
        if node not in nodes:
            known = ", ".join(node.removeprefix("line-") for node in nodes if node.startswith("line-"))
            raise LiveError(
                f"the rig has no line “{uplink}”; it has {known}" if nodes else "no rig is up: `sluice rig up` first"
            )
        return self.prefix + node

    def command(self, node: str, command: Sequence[str]) -> list[str]:
        """The command line that runs `command` on a node. LiveError when there is no such node."""
        if node not in self.nodes():
            known = ", ".join(self.nodes())
            raise LiveError(
                f"the rig has no node “{node}”; it has {known}" if known else "no rig is up: `sluice rig up` first"
            )
        state = [] if STATE in os.environ else ["env", f"{STATE}={self.logs / 'state'}"]
        return ["ip", "netns", "exec", self.prefix + node, *state, *command]

    def program(self, node: str, module: str, *arguments: object) -> list[str]:
        """The command line that runs a module of ours on a node."""
        command = [*PYTHON, f"wily_sluice.rig.{module}", *map(str, arguments)]
        return self.command(node, command)

    def _start(self, node: str, program: Sequence[object]) -> None:
        """Start a program of the rig's own; it says that it is ready by a line on its standard output."""
        self.logs.mkdir(exist_ok=True)
        log = self.logs / f"{node}.log"
        with log.open("wb") as output:
            process = subprocess.Popen(
                self.program(node, str(program[0]), *program[1:]),
                stdin=subprocess.DEVNULL,
                stdout=output,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        deadline = time.monotonic() + PATIENCE
        while "ready" not in (text := log.read_text(errors="replace")):
            if process.poll() is not None or time.monotonic() > deadline:
                raise LiveError(f"the rig's {node} did not start: {text.strip() or 'it said nothing'}")
            time.sleep(0.02)

    def down(self) -> int:
        """Take it down; returns the number of its namespaces."""
        _refuse_unless_root()
        nodes = self.nodes()
        for kind in (signal.SIGTERM, signal.SIGKILL):
            deadline = time.monotonic() + PATIENCE / 5
            for node in nodes:
                for process in self.processes(node):
                    if process != os.getpid():
                        _signal(process, kind)
            while time.monotonic() < deadline and any(self.processes(node) for node in nodes):
                time.sleep(0.02)
        for node in nodes:
            run(["ip", "netns", "del", self.prefix + node])
        if self.logs.is_dir():
            shutil.rmtree(self.logs)
        return len(nodes)


def _refuse_unless_root() -> None:
    if os.geteuid() != 0:
        raise LiveError("network namespaces need root: run it with sudo")


def _signal(process: int, kind: signal.Signals) -> None:
    try:
        os.kill(process, kind)
    except ProcessLookupError:
        return
