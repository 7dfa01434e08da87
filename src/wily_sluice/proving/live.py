"""The running gate as a world for testing promises, with a temporary host and a far end beyond the line.

The plan stays as it is: its rules sort, and all its limiters apply. A flood of a queue is therefore a UDP conversation
that the plan's rules put there and that no limiter caps. A queue without such a conversation takes no part in floods
and cannot be tested itself. Promises that need another time of day, a used-up quota or a common clock cannot be tested.
"""

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import datetime
from ipaddress import ip_address
from threading import Thread
from typing import Any
from zoneinfo import ZoneInfo

from wily_sluice.control.client import Client
from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, UDP
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.shaper import Shaper
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import LOCAL_PORT, REMOTES, Example, examples
from wily_sluice.forecast.prove.proof import (
    NO_PORTS,
    Came,
    CannotTry,
    Flood,
    Led,
    Opened,
    Part,
    Promise,
    Proof,
    Stream,
    Where,
    try_in,
)
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Uplink
from wily_sluice.plan.terms import Terms
from wily_sluice.proving.far_side import FarSide
from wily_sluice.rig.promises.gate_program import Program
from wily_sluice.rig.promises.traffic_program import opening, stream_token
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, SECOND, Direction, Nanoseconds, Rate

MORE, MORE_AT_LEAST = 1.3, 4_000_000  # times what a stream should come to, and bit/s, that is sent of it
WAIT: Nanoseconds = 400 * MILLISECOND  # for both ends to be ready
WARMUP: Nanoseconds = 700 * MILLISECOND
COUNTED: Nanoseconds = 1600 * MILLISECOND
FEWEST, LONGEST = 110, 6 * SECOND  # packets of the slowest stream; time that is counted
SETTLED_WITHIN = 6.0  # seconds
MOST_MOVED = 20_000_000  # bytes that one conversation moves to meet a rule
KINDS = {TCP: "tcp", UDP: "udp"}


class LiveWorld:
    """`host` is the far end's address, reached over `uplink`; `at` are the temporary host's addresses, each packed."""

    slack: Nanoseconds = 0

    def __init__(
        self, bench: Bench, uplink: Uplink, host: str, far: FarSide, near: Program, at: Sequence[bytes]
    ) -> None:
        self._bench = bench
        self._uplink = uplink
        self._host = ip_address(host).packed
        self._far = far
        self._near = near
        self._at = tuple(at)
        self._ports = 0
        self._entered = False
        self._engines: dict[Direction, Shaper] = {}
        self._leaves: dict[tuple[Direction, str], Example | None] = {}
        self._tried: dict[Flood, tuple[Came, ...]] = {}
        self.about: Proof | None = None

    def forget(self) -> None:
        """Forget earlier results."""
        self._tried.clear()

    # What the plan makes of a conversation now.

    def _shaper(self, way: Direction) -> Shaper:
        if way not in self._engines:
            engine = build_site(self._bench.plan, lambda _: None)
            engine.at(self._now())
            for direction in DIRECTIONS:
                self._engines[direction] = engine.shapers[self._uplink.name, direction]
        return self._engines[way]

    def _now(self) -> datetime:
        return datetime.now(ZoneInfo(self._bench.plan.timezone))

    def _goes(self, example: Example, way: Direction) -> tuple[str, tuple[int, ...]]:
        """The leaf, and the limiters that hold it."""
        conversation = example.conversation()
        shaper, subject = self._shaper(way), example.subject(conversation)
        flow_path = shaper.flow_path_for(conversation, subject)
        return str(flow_path.leaf.path), tuple(shaper.classifier.limits(subject)) if flow_path.buckets else ()

    def _moved_here(self, example: Example) -> Iterator[Example]:
        """The same between one of our addresses and the far end, where the plan asks for neither."""
        parties = example.parties
        if len(parties.local) != len(self._host) or parties.remote not in (*REMOTES, self._host):
            return
        ours = [parties.local] if parties.local in self._at else []
        for local in (
            *ours,
            *(address for address in self._at if address != parties.local and len(address) == len(self._host)),
        ):
            yield replace(example, parties=parties._replace(local=local, remote=self._host))

    def _like(self, example: Example, way: Direction = "up") -> Example:
        """A conversation of the temporary host with the same queue and the same limiters. CannotTry."""
        if example.parties.local in GATEWAY.addresses:
            raise CannotTry("it concerns the gateway itself, but the proof sends from a temporary host")
        wanted = self._goes(example, way)
        fitting = next(
            (candidate for candidate in self._moved_here(example) if self._goes(candidate, way) == wanted), None
        )
        if fitting is None:
            if len(example.parties.local) != len(self._host):
                raise CannotTry(f"the far end is reached over IPv{4 if len(self._host) == 4 else 6}")
            far = example.parties.remote not in (*REMOTES, self._host)
            asked = ip_address(example.parties.remote if far else example.parties.local)
            raise CannotTry(f"it is about {asked}, which {'is another remote' if far else 'others may have'}")
        return fitting

    def _leading_to(self, path: str, way: Direction) -> Example | None:
        """A UDP conversation of the temporary host for a leaf, without a limiter."""
        if (way, path) not in self._leaves:
            terms = [rule.terms for rule in self._bench.plan.sorting] + [Terms()]
            led = (
                here
                for asked in terms
                for example in examples(self._bench.plan, asked)
                if example.plain and example.parties.protocol in (UDP, TCP)
                for here in self._moved_here(replace(example, parties=example.parties._replace(protocol=UDP)))
                if self._goes(here, way) == (path, ())
            )
            self._leaves[way, path] = next(led, None)
        return self._leaves[way, path]

    # Floods.

    def flood(self, asked: Flood) -> tuple[Came, ...]:
        """The result of each stream. CannotTry."""
        self._possible(asked.uplink, asked.moment)
        if asked.spent:
            raise CannotTry("it would use up a quota")
        if asked not in self._tried:
            self._tried[asked] = self._flood(asked)
        return self._tried[asked]

    def _possible(self, uplink: str, moment: datetime | None) -> None:
        if uplink != self._uplink.name:
            raise CannotTry(f"the far end is reached over {self._uplink.name}")
        now = self._now()
        if moment is not None and any(
            schedule.holds(now) != schedule.holds(moment) for schedule in self._bench.plan.schedules.values()
        ):
            raise CannotTry("it is about another time than now")

    def _flood(self, asked: Flood) -> tuple[Came, ...]:
        ours: dict[int, Stream] = {}
        for number, stream in enumerate(asked.streams):
            example = self._example(asked, stream)
            if example is not None:
                ours[number] = replace(stream, example=self._with_port(example))
        streams = list(ours.values())
        lab = self._bench.flood(replace(asked, streams=tuple(asked.streams[number] for number in ours)))
        rates = [
            max(1, round(min(stream.rate, max(came.rate * MORE, came.rate + MORE_AT_LEAST))))
            for stream, came in zip(streams, lab, strict=True)
        ]
        slowest = min((came.rate for came in lab if came.rate > 0.001 * max(each.rate for each in lab)), default=1.0)
        counted = max(asked.least, min(LONGEST, max(COUNTED, round(FEWEST * 1500 * BYTE_TIME / max(1.0, slowest)))))
        packets = self._send(asked.way, streams, rates, counted)
        cost = self._uplink.framing.cost
        shares = {
            number: Came(packets.get(index, 0) * cost(stream.length) * BYTE_TIME / counted, 0, 0)
            for index, (number, stream) in enumerate(ours.items())
        }
        return tuple(shares.get(number, Came(0.0, 0, 0)) for number in range(len(asked.streams)))

    def _example(self, asked: Flood, stream: Stream) -> Example | None:
        """What to send for a stream; None where it is left out. CannotTry."""
        if asked.part != Part("trees"):
            like = self._like(stream.example, asked.way)
            if len(self._goes(like, asked.way)[1]) > 1:
                raise CannotTry("another limiter holds the same host")
            return replace(like, parties=like.parties._replace(protocol=UDP))
        full = self._bench.full(self._uplink, asked.way)
        path = next(path for path, full_share in full.items() if full_share.example == stream.example)
        example = self._leading_to(path, asked.way)
        if example is None and self._takes_all(path, asked.way):
            raise CannotTry(f"no UDP conversation for {path} is possible here without a limiter")
        return example

    def _takes_all(self, path: str, way: Direction) -> bool:
        """Whether the test needs this leaf: a parent's guarantee may be used by a single leaf."""
        about = self.about
        if about is None or not f"{path}/".startswith(f"{about.name}/"):
            return False
        below = [path for path in self._bench.full(self._uplink, way) if f"{path}/".startswith(f"{about.name}/")]
        return about.kind != "guarantee" or not any(self._leading_to(path, way) for path in below)

    def _send(
        self, way: Direction, streams: Sequence[Stream], rates: Sequence[Rate], counted: Nanoseconds
    ) -> dict[int, int]:
        """Send at these rates; returns the packets received of each stream."""
        self._settle()
        self._listen([("udp", stream.example.parties.remote_port) for stream in streams])
        calls = []
        for index, stream in enumerate(streams):
            parties = stream.example.parties
            ends = [_text(parties.local), parties.local_port, _text(parties.remote), parties.remote_port]
            calls.append([index, *ends, stream_token(self._far.secret, index).hex()])
        self._near.ask({"call": calls})
        time.sleep(0.3)
        cost = self._uplink.framing.cost
        sending = [
            [index, max(1, cost(stream.length) * BYTE_TIME // rate), stream.length]
            for index, (stream, rate) in enumerate(zip(streams, rates, strict=True))
        ]
        down, up = (sending, []) if way == "down" else ([], sending)
        answered: list[Any] = []
        order = {"flood": {"send": down, "wait": WAIT, "warm": WARMUP, "counted": counted}}
        far = Thread(target=lambda: answered.append(_tried(lambda: self._far.ask(order))), daemon=True)
        begin = time.time_ns() + WAIT
        far.start()
        span = {"begin": begin, "from": begin + WARMUP, "until": begin + WARMUP + counted}
        here = self._near.ask({"flood": {"send": up, **span}})["answer"]
        far.join()
        (there,) = answered
        if isinstance(there, LiveError):
            raise there
        return {index: packets for index, packets, *_ in (here if way == "down" else there)}

    def _listen(self, ends: Iterable[tuple[str, int]]) -> None:
        wanted = [list(pair) for pair in dict.fromkeys(ends)]
        had = {(protocol, port) for protocol, _, port in self._far.ask({"listen": wanted})}
        if not self._entered:
            self._enter()
        for protocol, port in wanted:
            if (protocol, port) not in had:
                raise CannotTry(f"the far end cannot have {port}/{protocol}")

    def _enter(self) -> None:
        """Show the far end that our addresses are ours. CannotTry."""
        ours = [_text(address) for address in self._at if len(address) == len(self._host)]
        order = {
            "enter": [[address, _text(self._host), self._far.port] for address in ours],
            "secret": self._far.secret.hex(),
        }
        if not all(self._near.ask(order)["answer"]):
            raise CannotTry(f"no UDP goes through to port {self._far.port} of the far end")
        self._entered = True

    def _settle(self) -> None:
        """Wait until nothing of ours waits in the gate."""
        until = time.monotonic() + SETTLED_WITHIN
        with Client() as client:
            while time.monotonic() < until:
                uplink = client.call("watch.now")["uplinks"].get(self._uplink.name, {})
                if not any(uplink[way]["backlog_packets"] for way in ("up", "down") if way in uplink):
                    return
                time.sleep(0.3)

    def _with_port(self, example: Example) -> Example:
        """With a fresh port, where no particular one is needed."""
        if example.parties.local_port != LOCAL_PORT:
            return example
        self._ports += 1
        return replace(example, parties=example.parties._replace(local_port=LOCAL_PORT + self._ports))

    # Conversations.

    def where(self, asked: Where) -> str:
        """Where the gate sends a conversation. CannotTry."""
        self._possible(asked.uplink, asked.moment)
        example = asked.example
        if example.kind or example.length < 1500 or example.hardware or example.fast or example.moved > MOST_MOVED:
            raise CannotTry("that is not seen of a conversation as a whole, or takes too long")
        if example.shape:
            raise CannotTry("how a conversation behaves takes too long to show")
        example = self._with_port(self._like(example))
        parties = example.parties
        data = opening(example.known, parties.protocol)
        if data is None:
            raise CannotTry(f"there is no way here to speak {example.known.seen or example.known.names[0]}")
        if parties.protocol in KINDS:
            self._listen([(KINDS[parties.protocol], parties.remote_port)])
        elif parties.protocol not in (ICMP, ICMPV6):
            raise CannotTry("the far end does not answer that protocol")
        self._ports += 1
        identifier = 0x5000 + self._ports
        made = {
            "protocol": parties.protocol,
            "local": _text(parties.local),
            "port": parties.local_port,
            "remote": _text(parties.remote),
            "remote_port": parties.remote_port,
            "dscp": max(0, example.dscps.bit_length() - 1),
            "opening": [packet.hex() for packet in data] or [b"e".hex()],
            "identifier": identifier,
            "take": example.moved,
            "secret": self._far.secret.hex(),
            "steady": 0.0,
        }
        (trouble,) = self._near.ask({"converse": [made]})["answer"]
        ports = (parties.local_port, parties.remote_port) if parties.protocol in KINDS else (0, 0)
        with Client() as client:
            look = client.call(
                "classify.look",
                protocol=parties.protocol,
                local=_text(parties.local),
                local_port=ports[0],
                remote=_text(parties.remote),
                remote_port=ports[1],
            )
        if look is None:
            if trouble:
                raise CannotTry(f"the far end does not answer such a conversation: {trouble}")
            return ""
        return next((step["queue"] for step in look["going"] if step["direction"] == "up"), "")

    def lines(self, asked: Led) -> tuple[str, ...]:
        """Not possible: routes apply to traffic from the networks' own interfaces. CannotTry."""
        raise CannotTry("routes do not apply to the temporary host, because it has a separate interface")

    def opened(self, asked: Opened) -> bool:
        """Not here. CannotTry."""
        raise CannotTry(NO_PORTS)


def _text(address: bytes) -> str:
    return str(ip_address(address))


def _tried(ask: Callable[[], Any]) -> Any:
    try:
        return ask()
    except LiveError as error:
        return error


def prove_live(world: LiveWorld, promises: Iterable[Promise], tell: Callable[[str], None]) -> list[Proof]:
    """The result of each promise. LiveError if an end is lost."""
    proofs = []
    for promise in promises:
        proof = world.about = promise.proof
        tell(f"{proof.kind} {proof.name}, {proof.where}")
        if proof.kind == "delay":
            proofs.append(replace(proof, why="how long packets wait each way takes one clock at both ends"))
            continue
        if proof.kind == "schedule":
            proofs.append(replace(proof, why="it takes other times than now"))
            continue
        try:
            tried = try_in(world, promise)
            if tried.verdict == "broken":  # by the plan, or by what others sent meanwhile
                world.forget()
                tried = try_in(world, promise)
        except RpcError as error:
            raise LiveError(f"the gate does not answer: {error}") from None
        proofs.append(tried)
    return proofs
