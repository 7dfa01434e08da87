"""Hosts: their names, and the names that they contacted.

Reads the leases of a DHCP server, in three common forms:

- lines of `EXPIRES HARDWARE ADDRESS NAME …`, with seconds since 1970, a `*` if the host gave no name;
- blocks of `lease ADDRESS { hardware ethernet HARDWARE; client-hostname "NAME"; }`, the last for an address;
- CSV with a heading that has `address`, `hwaddr` and `hostname`, the last for an address.

Names come from the hosts themselves, so only valid host names are accepted (RFC 1123 §2.1).

Files and DNS are read in a separate thread from time to time, so that no answer waits for them.
"""

import csv
import re
import socket
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from ipaddress import ip_address
from pathlib import Path
from threading import Event, Thread
from typing import NamedTuple

from wily_sluice.control.log import note
from wily_sluice.history.stores import ContactStore, forget
from wily_sluice.plan.groups.members import hardware_names, host_names
from wily_sluice.plan.model import HostNaming, Plan
from wily_sluice.units import Nanoseconds

MOST_LEASES = 16_384
LARGEST_FILE = 8_000_000  # bytes
_LINE = re.compile(r"(\d+) ([0-9A-Fa-f:]{17}|\S+) (\S+) (\S+)(?: |$)")
_BLOCK = re.compile(r"^lease\s+(\S+)\s*\{(.*?)^\}", re.MULTILINE | re.DOTALL)
_HARDWARE = re.compile(r"^\s*hardware\s+\S+\s+([0-9A-Fa-f:]+)\s*;", re.MULTILINE)
_NAME = re.compile(r'^\s*client-hostname\s+"([^"]*)"\s*;', re.MULTILINE)
_HOST_NAME = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?")


class Lease(NamedTuple):
    """An address, as it is usually written; the hardware address and the name that the host gave, each or nothing."""

    address: str
    hardware: str
    name: str


def leases(text: str) -> list[Lease]:
    """All that a file has, whatever its form; what cannot be read is left out."""
    if _BLOCK.search(text):
        rows = _blocks(text)
    elif "hwaddr" in text.partition("\n")[0]:
        rows = _rows(text)
    else:
        rows = _lines(text)
    by_address: dict[str, Lease] = {}
    for address, hardware, name in rows:
        try:
            written = str(ip_address(address))
        except ValueError:
            continue
        by_address[written] = Lease(written, hardware.lower(), host_name(name))
        if len(by_address) >= MOST_LEASES:
            break
    return list(by_address.values())


def host_name(text: str) -> str:
    """The first part of a name, if it can be one; empty otherwise."""
    first = text.partition(".")[0]
    return first if _HOST_NAME.fullmatch(first) else ""


def _lines(text: str) -> Iterator[tuple[str, str, str]]:
    for line in text.splitlines():
        match = _LINE.match(line)
        if match is not None:
            yield match[3], match[2], match[4]


def _blocks(text: str) -> Iterator[tuple[str, str, str]]:
    for block in _BLOCK.finditer(text):
        hardware, name = _HARDWARE.search(block[2]), _NAME.search(block[2])
        yield block[1], hardware[1] if hardware is not None else "", name[1] if name is not None else ""


def _rows(text: str) -> Iterator[tuple[str, str, str]]:
    for row in csv.DictReader(text.splitlines()):
        yield row.get("address") or "", row.get("hwaddr") or "", row.get("hostname") or ""


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
        owned = {address: by_hardware[owner] for address, owner in owners.items() if owner in by_hardware}
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
                own_name = host_name(socket.gethostbyaddr(address)[0])
            except OSError:
                own_name = ""
            self._reverse[address] = now, own_name
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


WRITE_EVERY = 5  # seconds, when there is something to write
LOOK_EVERY = 60  # seconds, for what is past its time


class NameBook:
    """The names of one gate, in a folder. A plan on trial deletes nothing: only `keep` of a kept plan does."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._kept: Nanoseconds | None = None
        self._waiting: set[tuple[str, str]] = set()
        self._written = 0
        self._trouble = ""

    def keep(self, span: Nanoseconds | None, on_trial: bool) -> None:
        """For how long names are kept from now on; None for not at all."""
        self._kept = span
        if span is None:
            self._waiting.clear()
            if not on_trial:
                self._try(lambda: forget(self._folder))

    def add(self, at: int, visits: Iterable[tuple[bytes, str]]) -> None:
        """Add observations, and write them regularly."""
        if self._kept is None:
            return
        self._waiting.update((str(ip_address(host)), name) for host, name in visits)
        if not 0 <= at - self._written < (WRITE_EVERY if self._waiting else LOOK_EVERY):
            self.write(at)

    def write(self, at: int) -> None:
        """Write pending names, and delete expired ones."""
        kept = self._kept
        if kept is None:
            return
        self._written = at
        if self._try(lambda: self._add(at, kept)):
            self._waiting.clear()

    def _add(self, at: int, kept: Nanoseconds) -> None:
        store = ContactStore(self._folder)
        try:
            store.add(at, kept, self._waiting)
        finally:
            store.close()

    def _try(self, write: Callable[[], None]) -> bool:
        """Try an operation; a failure is logged once, until it succeeds again."""
        try:
            write()
        except (sqlite3.Error, OSError) as error:
            if str(error) != self._trouble:
                self._trouble = str(error)
                note("names.unwritten", "error", why=str(error))
            return False
        self._trouble = ""
        return True
