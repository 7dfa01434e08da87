"""Opens ports for hosts that request them by PCP or NAT-PMP, if the plan grants it (RFC 6887, RFC 6886).

It listens only on the interfaces of the plan's networks, and hears only hosts that may be there: whose address is of no
other network's, and whose packet came from the device that the kernel knows by it. Counts and rates are of devices.
Requests are handled one after another; an answer that a port
is open, or closed, waits for the kernel. Mappings do not survive a restart: the epoch in each answer and an
announcement tell hosts to request them again.
"""

import asyncio
import socket
import time
from collections import Counter, deque
from collections.abc import Awaitable, Callable, Iterable, Mapping
from contextlib import suppress
from ipaddress import ip_address, ip_network
from threading import Lock
from typing import Any, Final, NamedTuple

from wily_sluice.control.log import Level
from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel import port_chains
from wily_sluice.gate.kernel.port_chains import OpenPort
from wily_sluice.gate.kernel.request_socket import Request, RequestSocket
from wily_sluice.plan.model import Network, Plan
from wily_sluice.plan.terms import TRANSPORTS
from wily_sluice.ports import nat_pmp, pcp
from wily_sluice.ports.answers import Answer, Answers
from wily_sluice.ports.mapping_table import Book, PortMapping, Refused, Sender
from wily_sluice.units import SECOND

MOST_WAITING: Final = 256  # datagrams; hosts ask again
MOST_A_SECOND: Final = 10  # of one host
A_BATCH: Final = 32  # after which the kernel is told
REPAIRED_EVERY: Final = 30.0  # seconds
LOOKED_EVERY: Final = 10.0
AGAIN: Final = 3600.0  # before the same is logged again
SOON: Final = 60.0  # before another refusal of the same host is logged
STEPPED: Final = 0.5  # seconds by which the wall clock was set
ANNOUNCED: Final = 10  # times, at first after 0.25 s, then after twice as long (RFC 6887 §14.1.2, RFC 6886 §3.2.1)
ALL_HOSTS = {socket.AF_INET: "224.0.0.1", socket.AF_INET6: "ff02::1"}


class Asked(NamedTuple):
    """A request, its sender, and the socket that received it."""

    request: Request
    sender: Sender
    socket: RequestSocket


class PortMapper:
    """Of one gate. `changed` is called with the mappings whenever they change, `tell` with each event, its level
    and details.
    """

    def __init__(
        self,
        changed: Callable[[Iterable[PortMapping]], None],
        tell: Callable[[str, Level, Mapping[str, str]], None],
    ) -> None:
        self._changed = changed
        self._tell = tell
        self._plan: Plan | None = None
        self._begun = time.monotonic_ns()
        self.book = Book(self._address, port_chains.listening)
        self._answers = Answers(self.book, self._begun, self._first_address)
        self._doors: dict[tuple[str, socket.AddressFamily], RequestSocket] = {}
        self._waiting: deque[Asked] = deque()
        self._heard: Counter[bytes] = Counter()  # by devices, in this second
        self._clock = _offset()
        self._wake = asyncio.Event()
        self._tasks: list[asyncio.Task[None]] = []
        self._ended: list[PortMapping] = []
        self._dirty = False
        self._put = False  # whether rules lead to our chains
        self._late: list[PortMapping] = []  # ended, but not yet in the kernel
        self._kernel, self._closed = Lock(), False
        self._clear = False  # whether those of a killed gate are cleared away
        self._external: dict[str, bytes] = {}
        self._told: dict[tuple[Any, ...], float] = {}
        self._known: set[tuple[bytes, int, int]] = set()  # those reported
        self._refused = 0

    @property
    def refused(self) -> int:
        """Requests without a mapping."""
        return self._refused

    @property
    def wanted(self) -> bool:
        """Whether the plan has mappings or steady ports."""
        return self._plan is not None and bool(self._plan.granting or self._plan.steady)

    def follow(self, plan: Plan) -> None:
        """Go on by a plan; within a running event loop."""
        self._plan = plan
        self._ended += self.book.follow(plan.granting)
        self._open_doors({network.interface for network in plan.networks} if plan.granting else set())
        loop = asyncio.get_running_loop()
        if not self._tasks:
            self._tasks = [loop.create_task(self._lasting(self._work))]
        if self.wanted and len(self._tasks) == 1:
            self._tasks += [loop.create_task(self._lasting(work)) for work in (self._look_after, self._announce)]
        self._dirty = True
        self._wake.set()

    def _open_doors(self, interfaces: set[str]) -> None:
        loop = asyncio.get_running_loop()
        indices = {name: index for index, name in socket.if_nameindex()}
        for key in [
            key for key, door in self._doors.items() if key[0] not in interfaces or indices.get(key[0]) != door.index
        ]:
            door = self._doors.pop(key)
            loop.remove_reader(door.end.fileno())
            door.close()
        for interface in interfaces:
            for family in ALL_HOSTS:
                if (interface, family) in self._doors or interface not in indices:
                    continue
                try:
                    door = RequestSocket(interface, family, pcp.SERVER_PORT, pcp.MOST + 1)
                except OSError as error:
                    self._tell_once("mappings.unusable", "error", AGAIN, interface=interface, why=str(error))
                    continue
                self._doors[interface, family] = door
                loop.add_reader(door.end.fileno(), self._hear, door)

    def _hear(self, door: RequestSocket) -> None:
        with suppress(OSError):
            for _ in range(A_BATCH):
                request = door.receive()
                if any(self._heard[device] > MOST_A_SECOND for device in request.devices):
                    continue
                sender = self._sender(door, request.host, request.devices)
                if sender is None:
                    continue
                self._heard[sender.device] += 1
                if len(self._waiting) < MOST_WAITING and self._heard[sender.device] <= MOST_A_SECOND:
                    self._waiting.append(Asked(request, sender, door))
        self._wake.set()

    def _sender(self, door: RequestSocket, host: bytes, devices: set[bytes]) -> Sender | None:
        """Who asks by this interface, with these hardware addresses; None if that cannot be."""
        network = next((network for network in self._networks() if host in network.addresses), None)
        device = next(iter(devices), b"")
        if network is not None and network.interface != door.interface:
            self._refuse(host, device, Refused.ELSEWHERE)
            return None
        if len(devices) != 1 or (device and not self._has(host, device, door.index)):
            if devices:
                self._refuse(host, device, Refused.SPOOFED)
            return None
        return Sender(host, device, network is not None and network.hosts == "address")

    def _networks(self) -> list[Network]:
        """Of the plan, the narrower ones first."""
        assert self._plan is not None
        return sorted(self._plan.networks, key=lambda network: -min(map(_width, network.subnets), default=0))

    def _has(self, host: bytes, device: bytes, index: int) -> bool:
        """Whether the kernel knows a host by this device, or by none yet."""
        try:
            return port_chains.hardware_of(host, index) in (b"", device)
        except LiveError as error:
            self._tell_once("mappings.unusable", "error", AGAIN, why=str(error))
            return False

    def _refuse(self, host: bytes, device: bytes, why: Refused) -> None:
        self._heard[device] += 1
        self._refused += 1
        about = {"host": str(ip_address(host)), "device": device.hex(":"), "why": why.value}
        self._tell_once("mapping.refused", "warning", SOON, **about)

    async def _lasting(self, work: Callable[[], Awaitable[None]]) -> None:
        """Repeat a task after any failure."""
        while True:
            try:
                await work()
            except Exception as error:  # of any kind: hosts go on asking
                self._tell_once("mappings.unusable", "error", AGAIN, why=f"{type(error).__name__}: {error}")
                await asyncio.sleep(1)

    async def _work(self) -> None:
        while True:
            await self._wake.wait()
            self._wake.clear()
            while self._waiting or self._dirty or self._ended:
                await self._turn()

    async def _turn(self) -> None:
        """Answer some requests, once the kernel has opened the ports."""
        answers: list[tuple[Asked, Answer]] = []
        now = time.monotonic_ns()
        for _ in range(min(A_BATCH, len(self._waiting))):
            asked = self._waiting.popleft()
            answer = self._answers.answer(asked.request.data, asked.sender, now)
            if answer is not None:
                answers.append((asked, answer))
                self._ended += answer.ended
        done = True
        if self._dirty or self._ended or any(answer.changed for _, answer in answers):
            self._dirty = False
            ended, self._ended = self._ended, []
            done = await self._carry_out(ended)
        for asked, answer in answers:
            if answer.opened is not None and not done:
                self.book.drop(answer.opened)
                self._dirty = True
            asked.socket.reply(asked.request, answer.data if done or not answer.changed else answer.failed)
            self._tell_of(answer, done)

    async def _carry_out(self, ended: list[PortMapping]) -> bool:
        """Have the kernel open the ports in the book, and no others; whether it did."""
        assert self._plan is not None
        contents, wanted, first = self._contents(), self.wanted, not self._put
        if not wanted and first and self._clear:
            return True

        def carry_out() -> None:
            with self._kernel:
                if self._closed:
                    return
                if first or not wanted:
                    port_chains.remove()
                if wanted:
                    port_chains.put(contents, first)

        try:
            await asyncio.to_thread(carry_out)
            self._put, self._clear = wanted, True
        except LiveError as error:
            self._put = False
            self._late += ended
            self._tell_once("mappings.unusable", "error", AGAIN, why=str(error))
            return False
        ended, self._late = [*self._late, *ended], []
        for mapping in ended:
            self._known.discard(mapping.key)
            self._tell("mapping.ended", "info", _about(mapping))
        try:
            if ended:
                await asyncio.to_thread(port_chains.forget, [self._port(mapping) for mapping in ended])
        except LiveError as error:
            self._tell_once("mappings.unforgotten", "warning", AGAIN, why=str(error))
        self._changed(self.book.mappings.values())
        return True

    def _contents(self) -> dict[str, dict[str, list[str]]]:
        assert self._plan is not None
        steady = self._plan.steady.addresses if self._plan.steady is not None else AddressSet()
        interfaces = [uplink.interface for uplink in self._plan.uplinks]
        return port_chains.contents(map(self._port, self.book.mappings.values()), steady, interfaces)

    def _port(self, mapping: PortMapping) -> OpenPort:
        until = time.time() + (mapping.ends - time.monotonic_ns()) / SECOND + 1
        return OpenPort(
            self._interface(mapping.uplink),
            mapping.host,
            mapping.protocol,
            mapping.inside,
            mapping.outside,
            until,
            mapping.filters,
        )

    def _tell_of(self, answer: Answer, done: bool) -> None:
        if answer.opened is not None and done:
            if answer.opened.key not in self._known:
                self._known.add(answer.opened.key)
                self._tell("mapping.made", "info", _about(answer.opened))
        elif answer.refused is not None and answer.wish is not None:
            wish = answer.wish
            self._refused += 1
            self._tell_once(
                "mapping.refused",
                "warning",
                SOON,
                host=str(ip_address(wish.host)),
                port=f"{wish.inside}/{TRANSPORTS[wish.protocol]}",
                by=wish.by,
                why=answer.refused.value,
            )

    def _tell_once(self, event: str, level: Level, again: float, **about: str) -> None:
        """Write to the log, unless the same was logged a short while ago."""
        now = time.monotonic()
        key = (event, about["host"]) if event == "mapping.refused" else (event, *about.values())
        if now - self._told.get(key, -again) < again:
            return
        self._told[key] = now
        if len(self._told) > MOST_WAITING:
            self._told = {host: at for host, at in self._told.items() if now - at < again / 60}
        self._tell(event, level, about)

    async def _look_after(self) -> None:
        """Every second, end expired mappings; from time to time, check the chains and the kept ports."""
        repaired = looked = time.monotonic()
        while True:
            await asyncio.sleep(1)
            self._heard.clear()
            if abs(_offset() - self._clock) > STEPPED:  # the kernel's rules end by the clock that was set
                self._clock, self._dirty = _offset(), True
                self._wake.set()
            expired = self.book.expire(time.monotonic_ns())
            if expired:
                self._ended += expired
                self._wake.set()
            now = time.monotonic()
            if self._plan is not None and self._plan.granting:
                self._open_doors({network.interface for network in self._plan.networks})
            if self.wanted and now - repaired >= REPAIRED_EVERY:
                repaired = now
                with suppress(LiveError):
                    if not await asyncio.to_thread(port_chains.stands, self._contents()) and not self._waiting:
                        self._put, self._dirty = False, True
                        self._wake.set()
            if self._plan is not None and self._plan.steady is not None and now - looked >= LOOKED_EVERY:
                looked = now
                await self._look_for_moved()

    async def _look_for_moved(self) -> None:
        try:
            moved = await asyncio.to_thread(port_chains.moved_ports)
        except LiveError as error:
            self._tell_once("ports.unknown", "warning", AGAIN, why=str(error))
            return
        for mapping in moved:
            name = TRANSPORTS[mapping.protocol]
            self._tell_once(
                "port.moved",
                "warning",
                AGAIN,
                host=mapping.host,
                port=f"{mapping.port}/{name}",
                became=f"{mapping.became}/{name}",
                remote=mapping.remote,
                why="another host speaks to the same remote from that port",
            )

    async def _announce(self) -> None:
        """Tell hosts that the book is a new one, and whenever the address outside is another (§14.1)."""
        for pause in (*(0.25 * 2**count for count in range(ANNOUNCED - 1)), 0.0):
            self._tell_all()
            await asyncio.sleep(pause)
        before = self._first_address()
        while True:
            await asyncio.sleep(1)
            now = self._first_address()
            if now != before:
                before = now
                self._tell_all()

    def _tell_all(self) -> None:
        epoch, external = self._answers.epoch(time.monotonic_ns()), self._first_address()
        for door in self._doors.values():
            with suppress(OSError):
                index = socket.if_nametoindex(door.interface)
                if door.family == socket.AF_INET6:
                    target: Any = (ALL_HOSTS[door.family], pcp.CLIENT_PORT, 0, index)
                else:
                    target = ALL_HOSTS[door.family], pcp.CLIENT_PORT
                door.end.sendto(pcp.announcement(epoch), target)
                if external and door.family == socket.AF_INET:
                    door.end.sendto(nat_pmp.address(external, epoch), target)

    def revoke(self, host: bytes, protocol: int | None, inside: int | None) -> list[PortMapping]:
        """End a host's mappings, and refuse them for an hour."""
        ended = self.book.revoke(host, protocol, inside, time.monotonic_ns())
        self._ended += ended
        self._wake.set()
        return ended

    def data(self, names: Mapping[str, str]) -> list[dict[str, Any]]:
        """The mappings, for JSON-RPC."""
        now = time.monotonic_ns()
        return [
            {
                "host": str(ip_address(mapping.host)),
                "name": names.get(str(ip_address(mapping.host))),
                "protocol": TRANSPORTS[mapping.protocol],
                "inside": mapping.inside,
                "outside": mapping.outside,
                "address": str(ip_address(mapping.external)),
                "uplink": mapping.uplink,
                "grant": mapping.grant,
                "service": mapping.service or None,
                "by": mapping.by,
                "remotes": [f"{ip_address(far.address)}/{far.length}" for far in mapping.filters],
                "left": mapping.left(now),
            }
            for mapping in self.book.mappings.values()
        ]

    def _interface(self, uplink: str) -> str:
        assert self._plan is not None
        return next((each.interface for each in self._plan.uplinks if each.name == uplink), "")

    def _address(self, uplink: str) -> bytes:
        return port_chains.address_of(self._interface(uplink))

    def _first_address(self) -> bytes:
        """The address of the uplink that the first grant opens ports on."""
        grants = self._plan.granting if self._plan is not None else ()
        return self._address(grants[0].uplink) if grants else b""

    def close(self) -> None:
        """Close all ports, and stop listening."""
        for task in self._tasks:
            task.cancel()
        for door in self._doors.values():
            door.close()
        self._doors = {}
        with self._kernel:  # so that work in other threads is over, and none follows
            self._closed = True
            if not (self._put or self.wanted):
                return
            ended = [self._port(mapping) for mapping in self.book.mappings.values()]
            port_chains.remove()
            with suppress(LiveError):
                port_chains.forget(ended)


def _about(mapping: PortMapping) -> dict[str, str]:
    name = TRANSPORTS[mapping.protocol]
    return {
        "host": str(ip_address(mapping.host)),
        "port": f"{mapping.inside}/{name}",
        "outside": f"{mapping.outside}/{name}",
        "uplink": mapping.uplink,
        "grant": mapping.grant,
        "by": mapping.by,
    }


def _offset() -> float:
    """By how much the wall clock is ahead of the monotonic one."""
    return time.time() - time.monotonic()


def _width(subnet: str) -> int:
    return ip_network(subnet, strict=False).prefixlen
