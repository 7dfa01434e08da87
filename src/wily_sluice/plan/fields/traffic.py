"""Fields about the traffic of a conversation: protocol, ports, packets, DSCP, time, service, volume, rate."""

import re
from collections.abc import Iterable
from typing import Annotated, Any, ClassVar, Final

from pydantic import BeforeValidator

from wily_sluice.engine.classify.condition import (
    LONGEST_PACKET,
    Condition,
    DscpIs,
    FastIs,
    KindIs,
    LengthIs,
    MovedIs,
    PortIs,
    ProtocolIs,
    ServiceIs,
    WhenIs,
)
from wily_sluice.plan.field import Engine, Field, Names, Needs, Space
from wily_sluice.plan.file.traffic_words import (
    dscp_text,
    kinds_text,
    parse_dscp,
    parse_fast,
    parse_kind,
    parse_moved,
    parse_protocol,
    ports_text,
    protocol_text,
)
from wily_sluice.plan.file.words import PortWords, Words, flat
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Plan
from wily_sluice.plan.reach.regions import (
    DSCP,
    KIND,
    KINDS,
    LOCAL_PORT,
    MOVED,
    NO_END,
    PROTOCOL,
    REMOTE_PORT,
    Box,
    Dimension,
    Ranges,
    ranges,
)
from wily_sluice.plan.terms import Services
from wily_sluice.units import (
    Nanoseconds,
    Rate,
    Size,
    exact_rate,
    exact_size,
    format_rate_both,
    format_time,
    parse_size,
    quoted,
)


class Protocol(Field[tuple[int, ...]]):
    """Protocol numbers of the IANA registry."""

    key, entry, example, turn = "protocol", Annotated[tuple[int, ...], flat(parse_protocol)], "udp", 2
    before = " "

    def condition(self, asked: tuple[int, ...], engine: Engine) -> Condition:
        """The protocol is in this set."""
        return ProtocolIs(frozenset(asked))

    def boxes(self, asked: tuple[int, ...], space: Space) -> Iterable[Box]:
        """These."""
        return [{PROTOCOL: ranges((number, number) for number in asked)}]

    def text(self, asked: tuple[int, ...]) -> str:
        """`TCP or UDP`."""
        return protocol_text(asked)

    def phrase(self, asked: tuple[int, ...]) -> str:
        """Which."""
        return protocol_text(asked)


PROTOCOL_FIELD = Protocol()
Ports = tuple[tuple[int, int], ...]  # first and last of each range


class Port(Field[Ports]):
    """Of either side."""

    key, entry, example, turn = "port", PortWords, "5060-5080", 50
    dimensions: ClassVar[tuple[Dimension, ...]] = (LOCAL_PORT, REMOTE_PORT)

    def resolve(self, words: tuple[str | int, ...], here: Location, names: Names) -> Any:
        """The ports that they mean, with transports; `plan.terms` takes these apart."""
        return names.ports(here, words)

    def condition(self, asked: Ports, engine: Engine) -> Condition:
        """A port of the conversation is in this set."""
        return PortIs(asked, LOCAL_PORT in self.dimensions, REMOTE_PORT in self.dimensions)

    def boxes(self, asked: Ports, space: Space) -> Iterable[Box]:
        """These, on either side that counts."""
        return [{dimension: ranges(asked)} for dimension in self.dimensions]

    def text(self, asked: Ports) -> str:
        """`5060-5080 or 443`."""
        return ports_text(asked)

    def phrase(self, asked: Ports) -> str:
        """On which."""
        return f" on {self.key.replace('-', ' ')} {ports_text(asked)}"


class LocalPort(Port):
    """Of your side."""

    key, example, turn = "local-port", "5004", 60
    dimensions = (LOCAL_PORT,)


class RemotePort(Port):
    """Of the far side."""

    key, example, turn = "remote-port", "443", 70
    dimensions = (REMOTE_PORT,)


PORT, LOCAL_PORT_FIELD, REMOTE_PORT_FIELD = Port(), LocalPort(), RemotePort()


class Packet(Field[int]):
    """Kinds, as bits."""

    key, entry, example, turn = "packet", Annotated[tuple[int, ...], flat(parse_kind)], "acknowledgement", 1
    before = " packets of "

    def resolve(self, words: Any, here: Location, names: Names) -> int:
        """Their bits."""
        return sum(set(words))

    def condition(self, asked: int, engine: Engine) -> Condition:
        """The packet is of a kind in this set."""
        return KindIs(asked)

    def need(self, asked: int, needs: Needs) -> None:
        """Kinds must be distinguished."""
        needs.kinds |= asked

    def boxes(self, asked: int, space: Space) -> Iterable[Box]:
        """All that have one of the bits."""
        return [{KIND: ranges((kinds, kinds) for kinds in range(KINDS) if kinds & asked)}]

    def text(self, asked: int) -> str:
        """`handshake or acknowledgement`."""
        return kinds_text(asked)

    def phrase(self, asked: int) -> str:
        """Which."""
        return kinds_text(asked)


PACKET_FIELD = Packet()
Length = tuple[Size, bool]  # and whether it must be over that
DIMENSION: Final = ("length", "")


def _length(text: object) -> Length:
    match = re.fullmatch(r"(up to|over) (.+)", str(text))
    if match is None:
        raise ValueError(f"{quoted(text)} is not a length of packets: write it like up to 128 B, or over 1000 B")
    size = parse_size(match[2])
    if not 20 <= size < LONGEST_PACKET:
        raise ValueError(f"{quoted(text)}: a packet of IP has 20 bytes at least, and {LONGEST_PACKET} at most")
    return size, match[1] == "over"


class LengthField(Field[Length]):
    """A size in bytes, with the headers of IP and all behind them."""

    key, entry, example, turn = "length", Annotated[Length, BeforeValidator(_length)], "up to 128 B", 95

    def condition(self, asked: Length, engine: Engine) -> Condition:
        """The packet is longer than that, or is not."""
        return LengthIs(*asked)

    def need(self, asked: Length, needs: Needs) -> None:
        """Packets up to this length must be distinguished."""
        needs.lengths.add(asked[0])

    def whole(self, plan: Plan) -> dict[Dimension, Ranges]:
        """All lengths that a packet can have."""
        return {DIMENSION: ((20, LONGEST_PACKET),)}

    def boxes(self, asked: Length, space: Space) -> Iterable[Box]:
        """Above it, or up to it."""
        size, over = asked
        return [{DIMENSION: ((size + 1, LONGEST_PACKET),) if over else ((20, size),)}]

    def text(self, asked: Length) -> str:
        """`up to 128 B`."""
        return f"{'over' if asked[1] else 'up to'} {exact_size(asked[0])}"

    def phrase(self, asked: Length) -> str:
        """In which packets."""
        return f" in packets of {self.text(asked)}"


LENGTH_FIELD = LengthField()


class Dscp(Field[tuple[int, ...]]):
    """Code points."""

    key, entry, example, turn = "dscp", Annotated[tuple[int, ...], flat(parse_dscp)], "EF", 100

    def condition(self, asked: tuple[int, ...], engine: Engine) -> Condition:
        """The conversation has carried a DSCP of this set."""
        return DscpIs(sum(1 << dscp for dscp in set(asked)))

    def need(self, asked: tuple[int, ...], needs: Needs) -> None:
        """DSCPs must be remembered."""
        needs.dscps = True

    def boxes(self, asked: tuple[int, ...], space: Space) -> Iterable[Box]:
        """These."""
        return [{DSCP: ranges((dscp, dscp) for dscp in asked)}]

    def text(self, asked: tuple[int, ...]) -> str:
        """`EF or AF41`."""
        return dscp_text(asked)

    def phrase(self, asked: tuple[int, ...]) -> str:
        """Marked how."""
        return f" with a packet marked {dscp_text(asked)}"


DSCP_FIELD = Dscp()


class When(Field[str]):
    """A schedule's name."""

    key, entry, example, turn = "when", str, "opening-hours", 130

    def resolve(self, words: str, here: Location, names: Names) -> str:
        """It, if there is one of that name."""
        names.expect(here, "schedule", words)
        return words

    def condition(self, asked: str, engine: Engine) -> Condition:
        """Whether the schedule applies now."""
        return WhenIs(engine.clock, engine.schedule(asked))

    def boxes(self, asked: str, space: Space) -> Iterable[Box]:
        """While it holds."""
        return [space.when(asked)]

    def text(self, asked: str) -> str:
        """Its name."""
        return asked

    def phrase(self, asked: str) -> str:
        """During what."""
        return f" during {asked}"


WHEN_FIELD = When()


class ServiceField(Field[Services]):
    """Services, or categories."""

    key, entry, example, turn = "service", Words, "calls", 40

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> Services:
        """Those that the words mean."""
        return Services(words, names.services_named(here, words))

    def condition(self, asked: Services, engine: Engine) -> Condition:
        """The service is in this set."""
        return ServiceIs(tuple(engine.signs(service.name) for service in asked.services))

    def need(self, asked: Services, needs: Needs) -> None:
        """Shapes must be observed if a service has one."""
        needs.shapes = needs.shapes or any(service.shape for service in asked.services)

    def boxes(self, asked: Services, space: Space) -> Iterable[Box]:
        """A flag for each."""
        return [space.flag("service", service.name) for service in asked.services]

    def text(self, asked: Services) -> str:
        """`calls or meetings`."""
        return " or ".join(asked.words)

    def phrase(self, asked: Services) -> str:
        """Of which."""
        return f" using {self.text(asked)}"


SERVICE_FIELD = ServiceField()
Moved = tuple[Size, bool]  # and whether it must be over


class MovedField(Field[Moved]):
    """A size, in bytes."""

    key, entry, example, turn = "moved", Annotated[Moved, BeforeValidator(parse_moved)], "over 20 MB", 110

    def condition(self, asked: Moved, engine: Engine) -> Condition:
        """Whether it has moved more than that, or not."""
        return MovedIs(*asked)

    def need(self, asked: Moved, needs: Needs) -> None:
        """A conversation that passes this size is sorted again."""
        needs.sizes.append(asked[0])

    def boxes(self, asked: Moved, space: Space) -> Iterable[Box]:
        """Above it, or up to it."""
        size, over = asked
        return [{MOVED: ((size + 1, NO_END),) if over else ((0, size),)}]

    def text(self, asked: Moved) -> str:
        """`over 20 MB`."""
        return f"{'over' if asked[1] else 'under'} {exact_size(asked[0])}"

    def phrase(self, asked: Moved) -> str:
        """That have moved so much."""
        return f" that have moved {'over' if asked[1] else 'no more than'} {exact_size(asked[0])}"


MOVED_FIELD = MovedField()
Fast = tuple[Rate, Nanoseconds]  # and for how long


class RateField(Field[Fast]):
    """A rate in bit/s that lasts."""

    key, entry, example = "rate", Annotated[Fast, BeforeValidator(parse_fast)], "over 2 Mbit/s for 10 s"
    turn = 120

    def condition(self, asked: Fast, engine: Engine) -> Condition:
        """Whether it ran faster than that for so long."""
        return FastIs(engine.rates.index(asked))

    def need(self, asked: Fast, needs: Needs) -> None:
        """Rates must be observed."""
        needs.rates.append(asked)

    def boxes(self, asked: Fast, space: Space) -> Iterable[Box]:
        """A flag."""
        return [space.flag("rate", str(asked))]

    def text(self, asked: Fast) -> str:
        """`over 2 Mbit/s for 10 s`."""
        return f"over {exact_rate(asked[0])} for {format_time(asked[1])}"

    def phrase(self, asked: Fast) -> str:
        """That have run so fast."""
        return f" faster than {format_rate_both(asked[0])} for {format_time(asked[1])}"


RATE_FIELD = RateField()
