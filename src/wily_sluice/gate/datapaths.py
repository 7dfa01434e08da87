"""The datapaths of a plan's ways, recreated for each plan, and their counters since the gate began; other readers."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from ipaddress import ip_address

from wily_sluice.engine.classify.header import parse, parties
from wily_sluice.engine.classify.neighbours import Home
from wily_sluice.engine.site import SiteEngine
from wily_sluice.gate.admission import Admission
from wily_sluice.gate.bypass_audit import Line, Moved
from wily_sluice.gate.kernel.packet_queue import PacketQueue, QueuedPacket
from wily_sluice.gate.look import Visits
from wily_sluice.gate.loop import Datapath, Listener
from wily_sluice.gate.overload import Budget
from wily_sluice.gate.queue_manager import QueueManager, Taken, Way
from wily_sluice.plan.model import Plan
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import Nanoseconds


class Datapaths:
    """Of one gate; `homes` are the networks, by the index of their interface, as they are at any time."""

    def __init__(self, homes: dict[int, Home]) -> None:
        self._homes = homes
        self._with_strangers: set[str] = set()  # networks whose strangers were reported
        self._budget = Budget()
        self._open: dict[Way, tuple[Admission, Datapath]] = {}
        self._unreadable = 0  # of ways that are no more
        self._moved: dict[Line, Moved] = {}  # likewise

    def arrange(
        self,
        plan: Plan,
        engine: SiteEngine,
        recognition: Recognition | None,
        queue_manager: QueueManager,
        taken: Taken,
        visits: Visits,
    ) -> list[Datapath]:
        """The datapaths for reading a plan's queues from now on."""
        self._unreadable, self._moved = self.unreadable, self.moved()
        self._open = {}
        framings = {uplink.name: uplink.framing for uplink in plan.uplinks}
        wrappings = {tunnel.name: tunnel.wrapping for tunnel in plan.tunnels}
        for way in taken.indexes:
            queue, opening = queue_manager.queues(way)
            admission = Admission(
                engine,
                recognition,
                replace(framings[way.uplink], wrapping=wrappings.get(way.tunnel)),
                way.direction,
                queue_manager.can_write,
                visits if plan.gate.keep_contacts is not None else None,
                self._budget,
                self._homes,
            )
            shaper = engine.shapers[way.uplink, way.direction]
            self._open[way] = admission, Datapath(queue, shaper, admission, opening, admission.up)
        return [datapath for _, datapath in self._open.values()]

    @property
    def unreadable(self) -> int:
        """Packets that are not valid IP; they use the default."""
        return self._unreadable + sum(admission.unreadable for admission, _ in self._open.values())

    @property
    def unrecognised(self) -> int:
        """Packets that recognition skipped for lack of time."""
        return self._budget.refused

    def moved(self) -> dict[Line, Moved]:
        """The bytes moved by each uplink: released up, and received down."""
        moved = dict(self._moved)
        for way, (admission, datapath) in self._open.items():
            key = way.uplink, way.direction
            before = moved.get(key, Moved())
            size, packets = (
                (datapath.sent, datapath.packets) if admission.up else (admission.arrived, admission.packets)
            )
            moved[key] = Moved(before.bytes + size, before.packets + packets)
        return moved

    def strangers(self) -> Iterator[tuple[str, str]]:
        """Networks with a packet from an address outside them, and that address; each network once."""
        for admission, _ in self._open.values():
            for network, address in admission.strangers.items():
                if network not in self._with_strangers:
                    self._with_strangers.add(network)
                    yield network, str(ip_address(address))
            admission.strangers.clear()


def listeners(
    recognition: Recognition | None,
    names: PacketQueue | None,
    routes: PacketQueue | None,
    steer: Callable[[QueuedPacket, Nanoseconds], int],
) -> list[Listener]:
    """Readers of this machine's DNS answers, and of packets that open conversations and are marked by `steer`."""
    readers = [Listener(routes, steer)] if routes is not None else []
    if recognition is not None and names is not None:

        def hear(diverted: QueuedPacket, now: Nanoseconds) -> int:
            packet = diverted.header
            parsed = parse(packet, False)
            if parsed is not None:
                recognition.hear_dns(packet[parsed.headers :], parties(parsed.key).local, now)
            return -1

        readers.append(Listener(names, hear))
    return readers
