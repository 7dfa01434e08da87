"""A rig as a world to try promises in. All that they need is collected first, then tried in a few steps."""

import json
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from datetime import datetime
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.conversations.watch import BULK
from wily_sluice.errors import LiveError
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import LOCAL_PORT
from wily_sluice.forecast.prove.proof import RULES, Came, CannotTry, Flood, Led, Part, Where
from wily_sluice.gate.kernel.process import run
from wily_sluice.plan.model import Plan
from wily_sluice.rig.layout import Layout
from wily_sluice.rig.promises.gate_program import PATIENCE, Program
from wily_sluice.rig.promises.recorded import Asked
from wily_sluice.rig.promises.traffic_program import opening
from wily_sluice.rig.rig import Rig
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, SECOND, Direction, Nanoseconds, Rate

MORE = 1.3  # times the expected rate of a stream: how much is sent
MORE_AT_LEAST: Rate = 4_000_000  # added to it, in bit/s: more than CoDel drops during a flood
WARMUP: Nanoseconds = 450 * MILLISECOND
COUNTED: Nanoseconds = 1400 * MILLISECOND
FEWEST = 110  # packets of the slowest stream
LONGEST: Nanoseconds = 5 * SECOND  # of the time that counts
MOST_PACKETS = 30_000  # a second that a rig on two cores sends, delivers and counts; 37,000 are too many
LONGEST_MOVE: Nanoseconds = 3 * SECOND  # for which one conversation moves bytes at the line's rate, to match a rule
FAILED_WITHIN, BACK_WITHIN = 6.0, 20.0  # seconds until the gate leaves an uplink, or uses it again
KINDS = {TCP: "tcp", UDP: "udp"}
LASTING = 4 * BULK  # bytes: bulk at one look and at the next, and not enough for another that might not be
STEADY = 3.0  # seconds of small packets, until a conversation is interactive


class RigWorld:
    """A rig with a gate, for one plan. `program` is the gate's, so that a test may give another."""

    def __init__(self, bench: Bench, rig: Rig, layout: Layout, gate: Program, ends: dict[str, Program]) -> None:
        self._bench = bench
        self._rig = rig
        self._layout = layout
        self._gate = gate
        self._ends = ends
        self._at: tuple[Any, ...] = ()
        self._uplink = ""
        self._ports = 0
        self._killed = False
        self._cut = False  # whether an uplink was, which the gate uses again only after a while

    def try_all(self, asked: Iterable[Asked], tell: Callable[[str], None]) -> dict[Asked, Any]:
        """The result of each."""
        answers: dict[Asked, Any] = {}
        asked = list(asked)
        led = [question for question in asked if isinstance(question, Led)]
        for (part, moment, spent, uplink), group in _grouped(
            question for question in asked if not isinstance(question, Led)
        ).items():
            self._change(part, moment, spent)
            self._route(uplink)
            wheres = [question for question in group if isinstance(question, Where)]
            if wheres:
                tell(f"{uplink}: {len(wheres)} conversations …")
                answers.update(self._held(wheres))
            for pair in _paired([question for question in group if isinstance(question, Flood)]):
                tell(f"{uplink}: {part.name or part.kind}, {' and '.join(flood.way for flood in pair)} …")
                answers.update(self._flooded(pair))
        for down in sorted({led_there.down for led_there in led}, key=sorted):
            answers.update(self._led(down, [led_there for led_there in led if led_there.down == down], tell))
        return answers

    def bypassed(self, flood: Flood, rate: Rate) -> float:
        """The rate in bit/s of a flood's one stream after the gate is killed; the last that can be tried."""
        self._route(flood.uplink)
        self._settle()
        self._gate.kill()
        self._killed = True
        return self._send([(flood, [rate])])[0][0].rate

    def _change(self, part: Part, moment: datetime | None, spent: bool) -> None:
        wanted = (part, moment, spent)
        if wanted == self._at:
            return
        order = {
            "part": [part.kind, part.name],
            "spent": spent,
            "moment": moment.isoformat() if moment is not None else None,
        }
        trouble = self._gate.ask(order)["trouble"]
        if trouble:
            raise LiveError(f"the gate in the rig cannot use the plan: {trouble}")
        self._at = wanted

    def _route(self, uplink: str) -> None:
        """Send everything over this uplink."""
        if uplink == self._uplink:
            return
        index = next(index for index, each in enumerate(self._layout.plan.uplinks) if each.name == uplink)
        via4, via6 = self._layout.line_addresses(index)
        lines = [f"route replace {half} via {via4}" for half in ("0.0.0.0/1", "128.0.0.0/1")]
        lines.append(f"route replace 2000::/3 via {via6}")
        run(["ip", "-n", self._layout.namespace("gateway"), "-batch", "-"], stdin="\n".join(lines) + "\n")
        self._uplink = uplink

    # Floods.

    def _flooded(self, pair: Sequence[Flood]) -> Iterator[tuple[Flood, Any]]:
        """One flood, or one in each direction, at once."""
        ready = []
        for asked in pair:
            lab = self._bench.flood(asked)
            rates = [
                max(1, round(min(stream.rate, max(came.rate * MORE, came.rate + MORE_AT_LEAST))))
                for stream, came in zip(asked.streams, lab, strict=True)
            ]
            ready.append((asked, rates))
        cost = self._bench.uplinks[pair[0].uplink].framing.cost(1500)
        packets = sum(sum(rates) for _, rates in ready) / (cost * 8)
        if packets > MOST_PACKETS:
            why = CannotTry(f"it takes {packets:,.0f} packets a second, more than a rig on one machine sends")
            yield from ((asked, why) for asked, _ in ready)
            return
        yield from zip((asked for asked, _ in ready), self._send(ready), strict=True)

    def _send(self, ready: Sequence[tuple[Flood, list[Rate]]]) -> list[tuple[Came, ...]]:
        """Send streams at these rates, and count what arrives."""
        self._settle()
        streams = [
            (asked, stream, rate) for asked, rates in ready for stream, rate in zip(asked.streams, rates, strict=True)
        ]
        parties = [
            self._with_port(self._placed(stream.example.parties._replace(protocol=UDP))) for _, stream, _ in streams
        ]
        nodes = [self._node(party.local) for party in parties]
        far = self._ends["far"]
        listens = {(_text(party.remote), party.remote_port): None for party in parties}
        far.ask({"listen": [["udp", *address] for address in listens]})
        mine: dict[str, list[int]] = {node: [i for i, other in enumerate(nodes) if other == node] for node in nodes}
        for node, indices in mine.items():
            calls = [
                [
                    i,
                    _text(parties[i].local),
                    parties[i].local_port,
                    _text(parties[i].remote),
                    parties[i].remote_port,
                    "",
                ]
                for i in indices
            ]
            self._ends[node].ask({"call": calls})
        time.sleep(0.1)
        slowest = min(self._slowest(asked) for asked, _ in ready)
        counted = min(LONGEST, max(COUNTED, FEWEST * 1500 * BYTE_TIME // max(1, slowest)))
        counted = max(counted, *(asked.least for asked, _ in ready)) if any(a.least for a, _ in ready) else counted
        begin = time.time_ns() + 150 * MILLISECOND
        span = {"begin": begin, "from": begin + WARMUP, "until": begin + WARMUP + counted}

        def sent(way: Direction, indices: Sequence[int]) -> list[list[int]]:
            results = []
            for i in indices:
                asked, stream, rate = streams[i]
                if asked.way == way:
                    cost = self._bench.uplinks[asked.uplink].framing.cost(stream.length)
                    results.append([i, cost * BYTE_TIME // rate, stream.length])
            return results

        far.order({"flood": {"send": sent("down", range(len(streams))), **span}})
        for node, indices in mine.items():
            # The kernel stamps what comes to the gateway itself before the gate has it.
            stamped = node != "gateway"
            self._ends[node].order({"flood": {"send": sent("up", indices), **span, "stamped": stamped}})
        came = {index: counts for index, *counts in far.answer()["answer"]}
        for node in mine:
            came |= {index: counts for index, *counts in self._ends[node].answer()["answer"]}
        results: list[list[Came]] = [[] for _ in ready]
        order = [number for number, (asked, _) in enumerate(ready) for _ in asked.streams]
        for i, (asked, stream, _) in enumerate(streams):
            cost = self._bench.uplinks[asked.uplink].framing.cost(stream.length)
            packets, p95, p99 = came.get(i, (0, 0, 0))
            results[order[i]].append(Came(packets * cost * BYTE_TIME / counted, p95, p99))
        return [tuple(result) for result in results]

    def _settle(self) -> None:
        """Wait until all earlier packets have arrived."""
        until = time.monotonic() + PATIENCE
        while not self._killed and self._gate.ask({"held": True})["held"] and time.monotonic() < until:
            time.sleep(0.05)

    def _slowest(self, asked: Flood) -> float:
        """The rate of the slowest stream that gets through in the lab."""
        rates = [came.rate for came in self._bench.flood(asked)]
        return min((rate for rate in rates if rate > 0.001 * max(rates)), default=1.0)

    def _with_port(self, parties: Parties) -> Parties:
        """With a fresh port, where no particular one is needed."""
        if parties.local_port != LOCAL_PORT:
            return parties
        self._ports += 1
        return parties._replace(local_port=LOCAL_PORT + self._ports)

    def _placed(self, parties: Parties) -> Parties:
        """With the gateway's address on the uplink in use, if the host is the gateway itself."""
        if parties.local not in GATEWAY.addresses:
            return parties
        names = [uplink.name for uplink in self._layout.plan.uplinks]
        index = names.index(self._uplink) if self._uplink else 0
        own = self._layout.own_addresses(index)[len(parties.local) == 16]
        return parties._replace(local=ip_address(own).packed)

    def _node(self, local: bytes) -> str:
        address = ip_address(local)
        uplinks = range(len(self._layout.plan.uplinks))
        if any(address in map(ip_address, self._layout.own_addresses(index)) for index in uplinks):
            return "gateway"
        for network in self._layout.plan.networks:
            if any(address in ip_network(subnet) for subnet in network.subnets):
                return network.name
        raise LiveError(f"{address} is in no network")

    # Lines.

    def _led(
        self, down: frozenset[str], asked: Sequence[Led], tell: Callable[[str], None]
    ) -> Iterator[tuple[Led, Any]]:
        """Open conversations that routes lead, with these uplinks cut, and ask the gate for their lines."""
        tell(f"routes{' without ' if down else ''}{' and '.join(sorted(down))}: {len(asked)} …")
        self._change(RULES, asked[0].moment, False)
        self._unroute()
        for name in down:
            self._rig.cut(name)
        self._wait_for(down, BACK_WITHIN if self._cut else FAILED_WITHIN)
        for question in asked:
            self._change(RULES, question.moment, False)
            yield question, self._lines(question)
        for name in down:
            self._rig.repair(name)
        for name in down:
            self._await_link(name)
        self._cut |= bool(down)

    def _lines(self, asked: Led) -> Any:
        if {tunnel.name for tunnel in self._layout.plan.tunnels} & set(self._bench.lines(asked)):
            return CannotTry("it goes into a tunnel, and a rig has none")
        wheres = [Where(self._layout.plan.uplinks[0].name, asked.example.nth(number)) for number in range(asked.many)]
        made = [self._made(where) for where in wheres]
        keys = []
        for where, order in zip(wheres, made, strict=True):
            if isinstance(order, CannotTry):
                return order
            if order["protocol"] in KINDS:
                self._ends["far"].ask({"listen": [[KINDS[order["protocol"]], order["remote"], order["remote_port"]]]})
            parties = self._placed(where.example.parties)._replace(local_port=order["port"])
            self._ends[self._node(parties.local)].ask({"converse": [order]})
            keys.append(key_of(parties).hex())
        return tuple(self._gate.ask({"lead": keys})["lines"])

    def _unroute(self) -> None:
        """Have routes decide, and nothing else."""
        if self._uplink:
            lines = [f"route del {half}" for half in ("0.0.0.0/1", "128.0.0.0/1")] + ["route del 2000::/3"]
            run(["ip", "-n", self._layout.namespace("gateway"), "-batch", "-"], stdin="\n".join(lines) + "\n")
            self._uplink = ""

    def _await_link(self, uplink: str) -> None:
        """Wait until both ends have noticed, then clear failed neighbour entries at both.

        Until an end has noticed, the kernel drops its packets; it repeats a lost neighbour query only after a second.
        """
        until = time.monotonic() + FAILED_WITHIN
        ends = (
            (self._layout.namespace(f"line-{uplink}"), "near"),
            (self._layout.namespace("gateway"), self._bench.uplinks[uplink].interface),
        )
        for namespace, end in ends:
            look = ["ip", "-n", namespace, "-json", "link", "show", "dev", end]
            while json.loads(run(look).stdout)[0]["operstate"] != "UP" and time.monotonic() < until:
                time.sleep(0.1)
        for namespace, end in ends:
            run(["ip", "-n", namespace, "neighbour", "flush", "dev", end])

    def _wait_for(self, down: frozenset[str], within: float) -> None:
        """Wait until the gate has noticed which uplinks are down."""
        until = time.monotonic() + within
        uplinks = {uplink.name for uplink in self._layout.plan.uplinks}
        while uplinks & set(self._gate.ask({"down": True})["down"]) != down and time.monotonic() < until:
            time.sleep(0.1)

    # Conversations.

    def _held(self, wheres: Sequence[Where]) -> Iterator[tuple[Where, Any]]:
        """Hold conversations, and ask the gate where they go."""
        ready: list[tuple[Where, dict[str, Any]]] = []
        for asked in wheres:
            made = self._made(asked)
            if isinstance(made, CannotTry):
                yield asked, made
            else:
                ready.append((asked, made))
        listens: list[list[Any]] = []
        for _, made in ready:
            if made["protocol"] in KINDS:
                listens.append([KINDS[made["protocol"]], made["remote"], made["remote_port"]])
        self._ends["far"].ask({"listen": listens})
        by_node: dict[str, list[int]] = {}
        for index, (asked, _) in enumerate(ready):
            by_node.setdefault(self._node(self._placed(asked.example.parties).local), []).append(index)
        for node, indices in by_node.items():
            self._ends[node].order({"converse": [ready[index][1] for index in indices]})
        for node in by_node:
            self._ends[node].answer()
        placed = [self._placed(asked.example.parties)._replace(local_port=made["port"]) for asked, made in ready]
        keys = [key_of(parties).hex() for parties in placed]
        looked = self._gate.ask({"look": keys, "uplink": wheres[0].uplink})
        for (asked, _), up, down in zip(ready, looked["up"], looked["down"], strict=True):
            answered = asked.example.parties.protocol in (TCP, UDP, 1, 58)
            refused = up in self._bench.uplinks[asked.uplink].refuses  # so nothing comes back
            yield asked, up if down or refused or not answered else ""

    def _made(self, asked: Where) -> dict[str, Any] | CannotTry:
        """The orders for a host."""
        example, parties = asked.example, asked.example.parties
        if example.kind or example.length < 1500 or example.hardware:
            return CannotTry("the rig cannot follow single packets")
        usable = self._bench.uplinks[asked.uplink].usable("down")
        if example.fast or example.moved * BYTE_TIME > usable * LONGEST_MOVE:
            return CannotTry("it takes more bytes, or more time, than a rig gives to one conversation")
        self._ports += 1
        parties = self._with_port(self._placed(parties))
        data = opening(example.known, parties.protocol)
        if data is None:
            return CannotTry(f"a rig has no way to speak {example.known.seen or example.known.names[0]}")
        if example.moved and parties.protocol != TCP:
            return CannotTry("a rig moves so much over TCP only")
        bulk = LASTING if example.shape == "bulk" else 0
        return {
            "protocol": parties.protocol,
            "local": _text(parties.local),
            "port": parties.local_port,
            "remote": _text(parties.remote),
            "remote_port": parties.remote_port,
            "identifier": self._ports,
            "dscp": example.dscps.bit_length() - 1,
            "opening": [packet.hex() for packet in data],
            "take": max(example.moved, bulk),
            "steady": STEADY if example.shape == "interactive" else 0.0,
        }


def _text(packed: bytes) -> str:
    return str(ip_address(packed))


def _grouped(asked: Iterable[Flood | Where]) -> dict[tuple[Part, datetime | None, bool, str], list[Flood | Where]]:
    """Grouped by the orders to the gate, so that there are as few as possible."""
    groups: dict[tuple[Part, datetime | None, bool, str], list[Flood | Where]] = {}
    for question in asked:
        part, spent = (question.part, question.spent) if isinstance(question, Flood) else (RULES, False)
        groups.setdefault((part, question.moment, spent, question.uplink), []).append(question)
    return groups


def _paired(floods: Sequence[Flood]) -> Iterator[tuple[Flood, ...]]:
    """One of each direction at a time."""
    ways = [[flood for flood in floods if flood.way == way] for way in DIRECTIONS]
    for number in range(max(map(len, ways), default=0)):
        yield tuple(column[number] for column in ways if number < len(column))


@contextmanager
def rig_world(
    bench: Bench, plan_file: Path, asked: Iterable[Asked], program: Sequence[str] | None = None
) -> Iterator[RigWorld]:
    """A rig for these promises, while the context lasts. `program` is the gate's, in place of `gate_program`."""
    plan: Plan = bench.plan
    rig = Rig("prove")
    rig.down()
    layout = Layout(plan, "prove", hosts=8)
    with ExitStack() as stack:
        stack.callback(rig.down)
        rig.up(layout, {})
        _add_addresses(layout, asked)
        rig.logs.mkdir(exist_ok=True)
        command = rig.program("gateway", "promises.gate_program", plan_file.absolute())
        if program is not None:
            command = rig.command("gateway", [*program, str(plan_file.absolute())])
        gate = Program(command, rig.logs / "gate.log")
        stack.callback(gate.close)
        ends = {}
        for node in ("far", "gateway", *(network.name for network in plan.networks)):
            ends[node] = Program(rig.program(node, "promises.traffic_program"), rig.logs / f"traffic-{node}.log")
            stack.callback(ends[node].close)
        yield RigWorld(bench, rig, layout, gate, ends)


def _add_addresses(layout: Layout, asked: Iterable[Asked]) -> None:
    """Give every host and remote that is needed its address."""
    examples = [
        example
        for question in asked
        for example in (
            [stream.example for stream in question.streams] if isinstance(question, Flood) else [question.example]
        )
    ]
    far: dict[str, None] = {}
    lines: dict[str, dict[str, None]] = {}
    for example in examples:
        remote = ip_address(example.parties.remote)
        if not any(remote in subnet for subnet in map(ip_network, layout.ranges.far)):
            far[str(remote)] = None
        local = ip_address(example.parties.local)
        for network in layout.plan.networks:
            for subnet in map(ip_network, network.subnets):
                if local in subnet:
                    text = f"{local}/{subnet.prefixlen}"
                    if text not in layout.host_addresses(network):
                        nodad = " nodad" if local.version == 6 else ""
                        lines.setdefault(network.name, {})[f"address add {text} dev eth0{nodad}"] = None
    for node, added in lines.items():
        run(["ip", "-n", layout.namespace(node), "-batch", "-"], stdin="\n".join(added) + "\n")
    if far:
        width = {remote: 128 if ":" in remote else 32 for remote in far}
        routes = "\n".join(f"route add local {remote}/{width[remote]} dev lo" for remote in far)
        run(["ip", "-n", layout.namespace("far"), "-batch", "-"], stdin=routes + "\n")
        for index, uplink in enumerate(layout.plan.uplinks):
            vias = layout.behind_addresses(index)
            routes = "\n".join(f"route add {remote}/{width[remote]} via {vias[':' in remote]}" for remote in far)
            run(["ip", "-n", layout.namespace(f"line-{uplink.name}"), "-batch", "-"], stdin=routes + "\n")
