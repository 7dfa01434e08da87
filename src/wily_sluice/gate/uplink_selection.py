"""Sends each conversation over the uplink that the plan's routes choose, and away from uplinks that are down.

The first packet of a conversation arrives here before the kernel routes it, and leaves with its uplink's mark. The
kernel saves the mark with the connection and sets it on later packets in both directions, which do not arrive here.
Packets that arrive before it is saved, such as the second of two in quick succession, get the same mark again.
"""

from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from typing import Final, NamedTuple

from wily_sluice.engine.classify.header import Parties, parse
from wily_sluice.engine.classify.neighbours import Home
from wily_sluice.engine.classify.service import Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.queueing.leaf_queue import Refusing
from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.uplinks import UplinkHealth
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.machine import Machine, Survey
from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.gate.kernel.policy_routes import FAMILIES, Hop
from wily_sluice.gate.probes import Probes
from wily_sluice.plan.lines import line_of, spent_routes
from wily_sluice.plan.mark_field import MarkField, clashes, free_field
from wily_sluice.plan.model import Plan, Tunnel, Uplink
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import DIRECTIONS, SECOND, Nanoseconds

REMEMBERED: Final[Nanoseconds] = 2 * SECOND
MOST_REMEMBERED: Final = 4096
VERIFIED_EVERY: Final[Nanoseconds] = 30 * SECOND
BACK: Final = "it is well again, and used once that has lasted {} s"


def _planned(plan: Plan) -> Iterator[Hop]:
    """The hops of lines by the plan: its next hops; for a tunnel without one, its only other end."""
    for line in plan.lines:
        for address in line.next_hops:
            yield Hop("-6" if ":" in address else "-4", line.interface, address)
    for tunnel in plan.tunnels:
        if not tunnel.next_hops:
            yield from (Hop(family, tunnel.interface, "") for family in FAMILIES)


class Affected(NamedTuple):
    """All conversations that were open when an uplink failed, and its shapers."""

    conversations: list[Conversation]
    shapers: list[Shaper]

    def parties(self) -> list[Parties]:
        """Of those over that uplink."""
        paths = ((one, one.up_path or one.down_path) for one in self.conversations)
        return [one.parties for one, path in paths if path is not None and path.shaper in self.shapers]


class UplinkSelection:
    """The uplinks of conversations, for one gate. `tell` is called with each event, its level and details."""

    def __init__(self, machine: Machine, homes: Mapping[int, Home], tell: Callable[..., None], probes: Probes) -> None:
        self._probes = probes
        self._machine = machine
        self._homes = homes
        self._tell = tell
        self.numbers: dict[str, int] = {}  # of uplinks, from 1; an uplink that stays keeps its number
        self._hops: dict[tuple[str, str], Hop] = {}
        self._led: tuple[dict[str, int], dict[str, int], MarkField, tuple[Hop, ...]] | None = None
        self._recent: OrderedDict[bytes, tuple[Nanoseconds, int]] = OrderedDict()
        self._health = UplinkHealth()
        self._last = False  # whether uplinks are used although their probes are silent
        self._astray: set[str] = set()  # uplinks, as told
        self.whys: dict[str, str] = {}  # why lines are down, by their names
        self._unled = False  # whether the kernel has refused a part
        self._verified: Nanoseconds = 0
        self._repaired: list[str] = []  # in other threads, to be reported in the loop
        self._lacking: set[str] = set()  # lines without a default route, as told
        self._affected: dict[int, Affected] = {}  # by numbers of uplinks
        self._troubles: list[str] = []  # in other threads, to be reported in the loop
        self._shared: list[tuple[str, str, int]] = []  # likewise: who else uses marks, and what is free
        self.spent: frozenset[str] = frozenset()  # names of routes
        self.carried: dict[str, int] = {}  # conversations by uplinks

    @property
    def down(self) -> set[str]:
        """The unusable uplinks."""
        return self._health.down

    def number(self, plan: Plan) -> dict[str, int]:
        """The numbers of a plan's uplinks and tunnels. They do not depend on their order in the file, so that
        connections that the kernel knows keep their uplink when a gate starts again with them in another order.
        """
        names = [line.name for line in plan.lines]
        known = {name: self.numbers[name] for name in names if name in self.numbers}
        free = iter(number for number in range(1, plan.gate.marks.most + 1) if number not in known.values())
        given = known | {name: next(free) for name in sorted(names) if name not in known}
        return {name: given[name] for name in names}

    def follow(self, plan: Plan, survey: Survey, now: Nanoseconds, changed: bool = False) -> None:
        """Update the kernel's tables to the present hops; in a separate thread. That they are as they should be is
        verified when something has `changed` there, and every VERIFIED_EVERY.
        """
        if not plan.routing:
            if self._led is not None:
                self._machine.leave()
                self._led = None
            return
        for hop in (*survey.hops, *_planned(plan)):
            self._hops[hop.family, hop.interface] = hop
        numbers = {line.interface: self.numbers[line.name] for line in plan.lines}
        here = tuple(hop for hop in self._hops.values() if hop.interface in survey.running)
        ends = {remote: self.numbers[tunnel.uplink] for tunnel in plan.tunnels for remote in tunnel.remotes}
        field = plan.gate.marks
        if self._led is not None and (numbers, ends, field) != self._led[:3]:
            self._machine.leave()  # clear away outdated rules
            self._led = None
        if self._led is None:
            self._look_for_others(field)
        known = (numbers, ends, field, here) == self._led and not self._unled
        if not known or changed or now - self._verified >= VERIFIED_EVERY:
            self._led, self._verified = (numbers, ends, field, here), now
            try:
                missing = self._machine.lead(numbers, here, ends, field)
                self._unled = False
            except LiveError as error:
                if not self._unled:
                    self._troubles.append(str(error))
                self._unled = True  # it is tried again at the next look
                return
            if known and missing:
                self._repaired.append("; ".join(missing))

    def _look_for_others(self, field: MarkField) -> None:
        """Report rules of other programs that meet the field or the preferences of this gate."""
        uses = self._machine.mark_uses()
        if met := clashes(field, uses):
            free = free_field(field, uses)
            self._shared.append(("; ".join(met), str(free), free.preference))

    def look(self, plan: Plan, engine: SiteEngine, survey: Survey, now: Nanoseconds) -> list[int]:
        """See which lines are down or have been back for long enough. Returns the numbers of lines that have just
        failed, whose conversations the kernel must forget.
        """
        if not plan.routing:
            return []
        while self._troubles:
            self._tell("routes.unusable", "error", why=self._troubles.pop())
        while self._repaired:
            self._tell("routes.repaired", "warning", missing=self._repaired.pop())
        self._look_for_hops(plan, survey)
        while self._shared:
            why, bits, preference = self._shared.pop()
            self._tell("routes.shared", "warning", why=why, bits=bits, preference=preference)
        failed = []
        whys: dict[str, str] = {}
        for line in plan.lines:
            whys[line.name] = self._why(line, whys, survey)
        self._use_the_last(plan, whys, survey, now)
        for line in plan.lines:
            name, why = line.name, whys[line.name]
            if not why:
                if self._health.well(name, now):
                    self._tell("uplink.back", "info", uplink=name)
            elif self._health.failed(name, now):
                failed.append(self.numbers[name])
                self._tell("uplink.down", "warning", uplink=name, why=why)
        self._health.keep(whys)
        self.whys = {name: whys[name] or BACK.format(self._health.hold(name) // SECOND) for name in sorted(self.down)}
        astray = self._probes.astray
        for name in sorted(astray.keys() - self._astray):
            self._tell("probe.astray", "warning", uplink=name, remotes=astray[name])
        self._astray = set(astray)
        engine.router.spent = self._spent(plan, engine)
        engine.router.down = frozenset(index for index, line in enumerate(plan.lines) if line.name in self.down)
        if failed:
            self._recent.clear()
            conversations = engine.conversations.open()
            for name, number in self.numbers.items():
                if number in failed:
                    shapers = [engine.shapers[name, way] for way in DIRECTIONS if (name, way) in engine.shapers]
                    self._affected[number] = Affected(conversations, shapers)
        return failed

    def _look_for_hops(self, plan: Plan, survey: Survey) -> None:
        """Tell of uplinks that have a link and no default route, so that nothing can be sent over them."""
        with_hop = {interface for _, interface in self._hops}
        lacking = {line.name for line in plan.lines if line.interface in survey.running - with_hop}
        for name in sorted(lacking - self._lacking):
            self._tell("route.missing", "warning", uplink=name)
        self._lacking = lacking

    def _use_the_last(self, plan: Plan, whys: dict[str, str], survey: Survey, now: Nanoseconds) -> None:
        """Where no uplink works, use those that have a link: that probes are silent is no reason to use none."""
        if any(not whys[uplink.name] and uplink.name not in self.down for uplink in plan.uplinks):
            self._last = False
            return
        for uplink in plan.uplinks:
            if uplink.interface in survey.running:
                whys[uplink.name] = ""
                self._health.use(uplink.name, now)
        for tunnel in plan.tunnels:
            whys[tunnel.name] = self._why(tunnel, whys, survey)
        if not self._last:
            self._last = True
            names = ", ".join(uplink.name for uplink in plan.uplinks if uplink.interface in survey.running)
            if names:
                self._tell("uplinks.silent", "warning", uplinks=names)

    def _why(self, line: Uplink | Tunnel, whys: Mapping[str, str], survey: Survey) -> str:
        """Why an uplink is unusable; empty if it works. A tunnel fails with its uplink."""
        if line.interface not in survey.running:
            return "its interface has no link"
        if isinstance(line, Tunnel):
            return f"its uplink {line.uplink} is down" if whys[line.uplink] else ""
        return self._probes.why(line.name)

    def _spent(self, plan: Plan, engine: SiteEngine) -> frozenset[str]:
        """The routes whose quota share is used up; changes are reported."""
        spent = spent_routes(plan, engine)
        for name in sorted(spent - self.spent):
            self._tell("route.spent", "info", route=name)
        for name in sorted(self.spent - spent):
            self._tell("route.again", "info", route=name)
        self.spent = spent
        return spent

    def lead_elsewhere(self, plan: Plan, engine: SiteEngine) -> list[bytes]:
        """Conversations that their uplink has refused. The kernel must forget them, so that their next packets arrive
        here again and are routed with present knowledge.
        """
        refused: list[bytes] = []
        for uplink in plan.uplinks if plan.routing else ():
            for way in DIRECTIONS if uplink.refuses else ():
                for leaf in engine.shapers[uplink.name, way].tree.leaves:
                    if isinstance(leaf.queue, Refusing):
                        refused += leaf.queue.take_refused()
        for key in refused:
            self._recent.pop(key, None)
        return refused

    def forget_conversations(self, plan: Plan, keys: list[bytes]) -> None:
        """Make the kernel forget these; in a separate thread."""
        try:
            self._machine.forget_conversations(keys, {line.interface for line in plan.lines})
        except LiveError as error:
            self._troubles.append(str(error))

    def forget(self, plan: Plan, numbers: list[int]) -> None:
        """Make the kernel forget the conversations of these uplinks; in a separate thread. With an interface the kernel
        may have forgotten them already, and so who takes part.
        """
        for number in numbers:
            here = self._affected.pop(number, Affected([], [])).parties()
            try:
                field = plan.gate.marks
                self._machine.forget(field.of(number), field.mask, {line.interface for line in plan.lines}, here)
            except LiveError as error:
                self._troubles.append(str(error))

    def mark(
        self, plan: Plan, engine: SiteEngine, recognition: Recognition | None, diverted: QueuedPacket, now: Nanoseconds
    ) -> int:
        """The mark for one of a conversation's first packets, with the marks of others kept; -1 for none."""
        parsed = parse(diverted.header, True)
        if parsed is None:
            return -1
        key, field = parsed.key, plan.gate.marks
        known = self._recent.get(key)
        if known is not None and now - known[0] < REMEMBERED:
            return diverted.fwmark & ~field.mask | known[1]
        conversation = engine.conversations.peek(key) or Conversation(key)
        if conversation.known is None and recognition is not None:
            parties = conversation.parties
            names = recognition.names.names(parties.remote, parties.local, now)
            opened = recognition.opened.get((parties.local, parties.protocol, parties.local_port), "")
            if names or opened:
                conversation.known = Known(names=names, opened=opened)
        home = self._homes.get(diverted.inside)
        if home is not None and not conversation.home and conversation.parties.local not in home.addresses:
            conversation.home = home.stranger(len(conversation.parties.local))
        line = line_of(plan, engine, conversation)
        mark = field.unrouted
        if line is None and len(engine.router.down) == len(plan.lines):
            return -1  # its next packet arrives here too, when there may be an uplink
        if line is not None:
            mark = field.of(self.numbers[line.name])
            self.carried[line.name] = self.carried.get(line.name, 0) + 1
        self._recent[key] = now, mark
        if len(self._recent) > MOST_REMEMBERED:
            self._recent.popitem(last=False)
        return diverted.fwmark & ~field.mask | mark
