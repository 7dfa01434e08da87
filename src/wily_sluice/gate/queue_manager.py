"""The kernel's packet queues that a plan takes, and the chains that lead packets there.

Each uplink has two queues, one per direction, and so has each tunnel. If the plan needs recognition, each has another
for first packets, which are copied whole, and there is one for this machine's own DNS answers. An uplink that stays
when the plan changes keeps its queues, so that their packets stay in order.
"""

import errno
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from itertools import count
from threading import Lock
from typing import NamedTuple

from wily_sluice.engine.limit.limiter import waiting_burst
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel import diversion
from wily_sluice.gate.kernel.machine import Machine
from wily_sluice.gate.kernel.packet_queue import HEADER_BYTES, RECEIVE_BUFFER, SHORT_BUFFER, WHOLE_BYTES, PacketQueue
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.units import DIRECTIONS, MILLISECOND, Direction, Rate, Size, transmission_time

FIRST_QUEUE = 4100  # of the kernel's queue numbers
FIRST_OPENING = 5100  # likewise, for the first packets of conversations
NAMES_QUEUE, ROUTES_QUEUE = 5099, 5098
LARGEST_OFFLOADED = 65_535  # bytes


class Way(NamedTuple):
    """A direction of an uplink: at its interface, or at that of a tunnel that it carries."""

    uplink: str
    direction: Direction
    tunnel: str = ""


def ways(plan: Plan) -> list[tuple[Way, str]]:
    """All directions of a plan with their interfaces; tunnels are ahead of uplinks."""
    inside = [(Way(tunnel.uplink, way, tunnel.name), tunnel.interface) for tunnel in plan.tunnels for way in DIRECTIONS]
    return inside + [(Way(uplink.name, way), uplink.interface) for uplink in plan.uplinks for way in DIRECTIONS]


def takes_whole(rate: Rate) -> bool:
    """Whether a large offloaded packet takes so little time at this rate that it need not be cut."""
    return transmission_time(LARGEST_OFFLOADED, rate) < MILLISECOND


def _polices(plan: Plan, uplink: Uplink, direction: Direction) -> bool:
    """Whether a limiter would drop or mark every large offloaded packet, since it is longer than the burst."""
    for limiter in plan.limiters:
        spec = limiter.spec(direction)
        if spec is None or spec.excess == "wait" or not limiter.enabled or limiter.uplink not in (None, uplink.name):
            continue
        if (spec.burst or waiting_burst(spec.rate)) < LARGEST_OFFLOADED:
            return True
    return False


@dataclass(frozen=True, slots=True)
class Taken:
    """The queues of a plan: the index of each direction, and whether first packets have separate queues."""

    indexes: dict[Way, int]
    whole: dict[Way, bool]
    recognises: bool
    apart: bool
    chains: tuple[str, str]
    steers: bool = False

    @property
    def numbers(self) -> set[int]:
        """The numbers of all its queues."""
        numbers = {FIRST_QUEUE + index for index in self.indexes.values()}
        if self.apart:
            numbers |= {FIRST_OPENING + index for index in self.indexes.values()}
        return numbers | ({NAMES_QUEUE} if self.recognises else set()) | ({ROUTES_QUEUE} if self.steers else set())


class QueueManager:
    """Of one gate, on a machine. `begin` comes first, `close` last.

    If the machine's connection table is `full`, it cannot identify the first packets of conversations, so all packets
    are copied whole.
    """

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self.full = False
        self.hands_on = Lock()  # held while the chains are changed or repaired
        self.led: tuple[str, str] | None = None  # the latest contents of the chains
        self._queues: dict[int, PacketQueue] = {}
        self._taken: Taken | None = None
        self._begun = False
        self._idle = False  # nothing is diverted any more
        self._missed = 0  # by queues that are closed
        self._can_count = False
        self.can_write = False

    def begin(self) -> None:
        """Remove the remains of a killed gate, and test the features of this machine."""
        self._begun = True
        self._machine.remove_chains()
        self._can_count, self.can_write = self._machine.can_count(), self._machine.can_write()

    def take(self, plan: Plan, recognises: bool, numbers: Mapping[str, int]) -> Taken:
        """Open the queues that a plan needs in addition, and lead its packets there; call `settle` or `retreat` next.
        `numbers` are those of the uplinks, for the marks of routes.

        LiveError if this machine cannot do it; then nothing has changed.
        """
        dscps = {limiter.dscp for limiter in plan.limiters if limiter.excess == "mark" and limiter.enabled}
        dscps |= {rule.mark for rule in plan.sorting if rule.mark is not None}
        if dscps and not self.can_write:
            raise LiveError("this machine cannot write DSCPs (iptables has no TOS), which the plan asks for")
        indexes = self._places(plan)
        apart = recognises and self._can_count and not self.full
        diverting = [
            diversion.Diverting(
                interface,
                way.direction,
                FIRST_QUEUE + indexes[way],
                FIRST_OPENING + indexes[way] if apart else None,
            )
            for way, interface in ways(plan)
        ]
        uplinks = {uplink.name: uplink for uplink in plan.uplinks}
        wrapped = [
            diversion.Wrapped(uplinks[tunnel.uplink].interface, tunnel.protocol, tunnel.ports, tunnel.remotes)
            for tunnel in plan.tunnels
        ]
        probed = [(uplink.interface, uplink.probing.remotes) for uplink in plan.uplinks if uplink.probing is not None]
        marking = dscps if self.can_write else None
        steered = None
        if plan.routing:
            steered = diversion.Steered(
                ROUTES_QUEUE,
                tuple(network.interface for network in plan.networks),
                tuple((line.interface, plan.gate.marks.of(numbers[line.name])) for line in plan.lines),
                plan.gate.marks.mask,
            )
        chains = diversion.rules(diverting, NAMES_QUEUE if recognises else None, marking, wrapped, steered, probed)
        whole = {
            way: takes_whole(uplinks[way.uplink].usable(way.direction))
            and not _polices(plan, uplinks[way.uplink], way.direction)
            for way in indexes
        }
        taken = Taken(indexes, whole, recognises, apart, chains, bool(plan.routing))
        try:
            for way, index in indexes.items():
                copied = WHOLE_BYTES if recognises and not apart else HEADER_BYTES
                up = way.direction == "up"
                self._open(FIRST_QUEUE + index, whole[way], copied, RECEIVE_BUFFER, up)
                if apart:
                    self._open(FIRST_OPENING + index, whole[way], WHOLE_BYTES, SHORT_BUFFER, up)
            if recognises:
                self._open(NAMES_QUEUE, False, WHOLE_BYTES, RECEIVE_BUFFER, True)
            if plan.routing:
                self._open(ROUTES_QUEUE, True, HEADER_BYTES, SHORT_BUFFER, True)
            self._lead(chains)
        except LiveError:
            self.retreat()
            raise
        return taken

    def _places(self, plan: Plan) -> dict[Way, int]:
        """An uplink that stays keeps its indexes."""
        known = self._taken.indexes if self._taken is not None else {}
        free = (index for index in count() if index not in known.values())
        return {way: known[way] if way in known else next(free) for way, _ in ways(plan)}

    def _lead(self, chains: tuple[str, str]) -> None:
        with self.hands_on:
            if self._idle:
                raise LiveError("the gate is being stopped")
            chains = self._still_tracking(chains)
            if self._taken is None:
                self._machine.put_chains(chains, first=True)
            elif chains != self.led:
                try:
                    self._machine.put_chains(chains)
                except LiveError:
                    with suppress(LiveError):
                        self._machine.put_chains(self.led or self._taken.chains)
                    raise
            self.led = chains

    def _still_tracking(self, chains: tuple[str, str]) -> tuple[str, str]:
        """The chains, which go on wanting connections tracked if those before did: otherwise packets are lost."""
        if self.led is None:
            return chains
        four, six = (
            diversion.tracking(new) if diversion.tracks(old) and not diversion.tracks(new) else new
            for new, old in zip(chains, self.led, strict=True)
        )
        return four, six

    def idle(self) -> None:
        """Divert no more packets, while those that wait are still shaped; in another thread. LiveError on refusal."""
        with self.hands_on:
            self._idle = True
            if self.led is not None:
                self.led = self._still_tracking(diversion.rules((), None, None))
                self._machine.put_chains(self.led)

    def _open(self, number: int, whole: bool, copied: Size, buffer: Size, up: bool) -> None:
        if number in self._queues:
            return
        try:
            self._queues[number] = self._machine.open_queue(number, whole, copied, buffer, up)
        except OSError as error:
            if error.errno in (errno.EBUSY, errno.EPERM):
                raise LiveError(f"the kernel's packet queue {number} is in use by another program") from None
            raise LiveError(
                f"the kernel lacks the packet queue (nfnetlink_queue), which the gate needs: {error.strerror}"
            ) from None

    def settle(self, taken: Taken) -> None:
        """Read these queues from now on, with packets copied accordingly, and close all others."""
        self._taken = taken
        self._close(self._queues.keys() - taken.numbers)
        for way, index in taken.indexes.items():
            copied = WHOLE_BYTES if taken.recognises and not taken.apart else HEADER_BYTES
            # If new conversations share a queue with all others, their excess must not pile up there.
            buffer = SHORT_BUFFER if self.full else RECEIVE_BUFFER
            self._queues[FIRST_QUEUE + index].hand_over(taken.whole[way], copied, buffer)
            if taken.apart:
                self._queues[FIRST_OPENING + index].hand_over(taken.whole[way], WHOLE_BYTES, SHORT_BUFFER)

    def retreat(self) -> None:
        """Close the queues opened for a plan that is not used."""
        self._close(self._queues.keys() - (self._taken.numbers if self._taken is not None else set()))

    def _close(self, numbers: Iterable[int]) -> None:
        for number in list(numbers):
            queue = self._queues.pop(number)
            queue.close()
            self._missed += queue.missed

    def queues(self, way: Way) -> tuple[PacketQueue, PacketQueue | None]:
        """The queue of a way, and that of the first packets of its conversations."""
        assert self._taken is not None
        index = self._taken.indexes[way]
        return self._queues[FIRST_QUEUE + index], self._queues.get(FIRST_OPENING + index)

    @property
    def missed(self) -> int:
        """Packets that bypassed the gate, since it was too slow for them."""
        return self._missed + sum(queue.missed for queue in self._queues.values())

    @property
    def routes(self) -> PacketQueue | None:
        """The queue of packets whose conversations need an uplink."""
        return self._queues.get(ROUTES_QUEUE)

    @property
    def names(self) -> PacketQueue | None:
        """The queue of DNS answers."""
        return self._queues.get(NAMES_QUEUE)

    def close(self) -> None:
        """Let all waiting packets go, and remove the chains: in this order, since the kernel may drop packets that wait
        when rules go.
        """
        if not self._idle:
            with suppress(LiveError):
                self.idle()
        self._close(self._queues)
        if self._begun:
            with suppress(LiveError):
                self._machine.remove_chains()

    @property
    def counts_first(self) -> bool:
        """Whether the kernel's connection tracking identifies the first packets of conversations."""
        return self._taken is not None and self._taken.apart

    def numbered(self, uplink: str) -> int:
        """The number of packets of an uplink, both directions, that reached its queues; some may have bypassed the gate
        there.
        """
        if self._taken is None:
            return 0
        indexes = [index for way, index in self._taken.indexes.items() if way.uplink == uplink]
        numbers = [first + index for index in indexes for first in (FIRST_QUEUE, FIRST_OPENING)]
        return sum(queue.numbered for number in numbers if (queue := self._queues.get(number)) is not None)

    @property
    def refused(self) -> int:
        """Messages of verdicts that the kernel refused at first."""
        return sum(queue.refused for queue in self._queues.values())
