"""Names of hosts: from the plan, from DHCP leases, and from DNS if the plan says so.

Files and DNS are read in a separate thread from time to time, so that no answer waits for them.
"""

import socket
import time
from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from threading import Event, Thread

from wily_sluice.control.api.leases import LARGEST_FILE, Lease, host_name, leases
from wily_sluice.control.log import note
from wily_sluice.plan.model import HostNaming, Plan
from wily_sluice.plan.named import hardware_names, host_names

EVERY = 30.0  # seconds
FORGOTTEN = 3600.0  # seconds, after which the name service is asked again
MOST_ASKED = 50  # of a round
MOST_KEPT = 4096
NEIGHBOURS = Path("/proc/net/arp")


class HostNames:
    """Of the plan that runs. `known` has the names by addresses, as these are written."""

    def __init__(self) -> None:
        self.known: Mapping[str, str] = {}
        self._plan: Plan | None = None
        self._seen: set[str] = set()
        self._reverse: dict[str, tuple[float, str]] = {}
        self._told: set[str] = set()
        self._wake = Event()
        self._over = False
        self._thread: Thread | None = None

    def follow(self, plan: Plan) -> None:
        """Go by this plan from now on."""
        self._plan = plan
        self.known = host_names(plan)
        if plan.gate.names != HostNaming() or hardware_names(plan):
            if self._thread is None:
                self._thread = Thread(target=self._run, daemon=True, name="host names")
                self._thread.start()
            self._wake.set()

    def saw(self, addresses: Iterable[str]) -> None:
        """Hosts that had traffic: whom to ask the name service about."""
        if self._plan is not None and self._plan.gate.names.reverse and len(self._seen) < MOST_KEPT:
            self._seen.update(addresses)

    def close(self) -> None:
        """Ask no more."""
        self._over = True
        self._wake.set()

    def _run(self) -> None:
        while not self._over:
            self._wake.clear()
            if self._plan is not None:
                self.look(self._plan)
            self._wake.wait(EVERY)

    def look(self, plan: Plan, quiet: bool = False) -> None:
        """Read and query again; `quiet` about unreadable files."""
        lent: dict[str, str] = {}
        by_hardware = hardware_names(plan)
        owners = neighbours() if by_hardware else {}
        for name in plan.gate.names.leases:
            for lease in self._leases(name, quiet):
                if lease.name:
                    lent[lease.address] = lease.name
                if lease.hardware:
                    owners.setdefault(lease.address, lease.hardware)
        owned = {address: by_hardware[one] for address, one in owners.items() if one in by_hardware}
        reverse = self._ask({*lent, *owned, *host_names(plan)}) if plan.gate.names.reverse else {}
        if self._plan is None or plan is self._plan:
            self.known = {**reverse, **lent, **owned, **host_names(plan)}

    def _leases(self, name: str, quiet: bool) -> list[Lease]:
        try:
            with Path(name).open("rb") as file:
                text = file.read(LARGEST_FILE).decode("utf-8", "replace")
        except OSError as error:
            if name not in self._told and not quiet:
                self._told.add(name)
                note("leases.unreadable", "warning", file=name, why=str(error))
            return []
        self._told.discard(name)
        return leases(text)

    def _ask(self, known: set[str]) -> dict[str, str]:
        """DNS names of hosts without another name. A few at a time."""
        now = time.monotonic()
        asked = 0
        for address in sorted(self._seen - known):
            at, _ = self._reverse.get(address, (-FORGOTTEN, ""))
            if now - at < FORGOTTEN:
                continue
            if asked >= MOST_ASKED or self._over:
                break
            asked += 1
            try:
                found = host_name(socket.gethostbyaddr(address)[0])
            except OSError:
                found = ""
            self._reverse[address] = now, found
        return {address: name for address, (_, name) in self._reverse.items() if name}


def all_names(plan: Plan) -> Mapping[str, str]:
    """The names that can be known at once, without the name service; files that cannot be read are left out."""
    naming = replace(plan.gate.names, reverse=False)
    names = HostNames()
    names.known = host_names(plan)
    names.look(replace(plan, gate=replace(plan.gate, names=naming)), quiet=True)
    return names.known


def neighbours(table: Path = NEIGHBOURS) -> dict[str, str]:
    """Hardware addresses by addresses of IPv4, as the kernel knows them (proc(5)); none where it does not say."""
    try:
        rows = [line.split() for line in table.read_text().splitlines()[1:]]
    except OSError:
        return {}
    return {row[0]: row[3].lower() for row in rows if len(row) >= 6 and row[3] != "00:00:00:00:00:00"}
