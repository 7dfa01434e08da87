"""What the words of a plan may be, and what a rate means."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from wily_sluice.engine.packet import ETHERNET
from wily_sluice.plan.model import Plan
from wily_sluice.units import (
    BYTE_TIME,
    SECOND,
    Nanoseconds,
    Rate,
    Size,
    format_byte_rate,
    format_rate,
    format_share,
    format_size,
    format_time,
)

FILE: Size = 1_000_000_000
FULL: Size = 1500  # bytes of an IP packet
CALL: Rate = 87_200  # bit/s of 50 packets a second of 200 bytes, with Ethernet's 18


def rate_facts(rate: Rate) -> list[tuple[str, str]]:
    """Facts about a rate above 0, in bit/s: pairs of a label and a value."""
    frame = ETHERNET.cost(FULL)
    return [
        ("bits", format_rate(rate)),
        ("bytes", format_byte_rate(rate)),
        (f"a file of {format_size(FILE)}", _long(FILE * BYTE_TIME // rate)),
        ("an hour", format_size(rate * 3600 / 8)),
        ("a month of 30 days", format_size(rate * 86_400 * 30 / 8)),
        (f"packets of {FULL} B", f"{rate / 8 / frame:,.0f} a second"),
        (f"one packet of {FULL} B takes", format_time(frame * BYTE_TIME // rate)),
        ("calls of 50 packets a second", f"{rate // CALL:,}"),
    ]


def _long(span: Nanoseconds) -> str:
    """A span that may be minutes, hours or days."""
    for unit, seconds in (("days", 86_400), ("h", 3600), ("min", 60)):
        if span >= 2 * seconds * SECOND:
            return f"{span / seconds / SECOND:.3g} {unit}"
    return format_time(span)


@dataclass(frozen=True, slots=True)
class Option:
    """One thing to choose."""

    name: str
    needs: str
    protects: str
    starves: str


@dataclass(frozen=True, slots=True)
class Choice:
    """A choice between options, with a recommendation for a plan."""

    name: str
    question: str
    options: tuple[Option, ...]
    advise: Callable[[Plan], str]


SLOW = 3_000_000  # bit/s: on a slower line one full packet delays a call by 4 ms or more


def _discipline(plan: Plan) -> str:
    slow = [u for u in plan.uplinks if u.usable("up") < SLOW]
    if slow:
        return (
            f"curve, on {slow[0].name}: at {format_rate(slow[0].usable('up'))} up, one full packet in front of a call "
            "is a long delay, and a promised delay includes it"
        )
    return "weighted: these uplinks are fast, so a first priority with a guarantee has little delay"


def _aqm(plan: Plan) -> str:
    return "fq-codel at every leaf, which is the default; fair-by: host at leaves that several hosts share"


def _headroom(plan: Plan) -> str:
    words = []
    for uplink in plan.uplinks:
        layers = uplink.framed.words
        radio = "mobile" in uplink.name or "radio" in uplink.name
        part = (
            "25%" if radio else "8 to 15%" if any(layer in layers for layer in ("ptm", "atm", "cable")) else "3 to 8%"
        )
        words.append(
            f"{uplink.name} ({layers}): {part}; it has {format_share(uplink.headroom.up or 0)} up and "
            f"{format_share(uplink.headroom.down or 0)} down"
        )
    return "; ".join(words)


def _framing(plan: Plan) -> str:
    return "; ".join(f"{uplink.name} has {uplink.framed.words}" for uplink in plan.uplinks) + (
        ". If you do not know, take the larger cost: too little queues in the modem, too much wastes a few percent"
    )


def _burst(plan: Plan) -> str:
    policing = [limiter.name for limiter in plan.limiters if limiter.excess == "drop" and limiter.burst is not None]
    if policing:
        return f"leave the burst of {', '.join(policing)} out: the default is two round trips at the rate"
    return "leave it out: the default suits TCP"


def _excess(plan: Plan) -> str:
    dropping = [limiter.name for limiter in plan.limiters if limiter.excess == "drop"]
    return "wait, the default" + (f"; {', '.join(dropping)} drop, which costs TCP some of its rate" if dropping else "")


CHOICES: Final = {
    choice.name: choice
    for choice in (
        Choice(
            "discipline",
            "how a parent divides its rate among its children",
            (
                Option(
                    "weighted",
                    "guarantees, and a priority for urgent queues",
                    "each guarantee; urgent queues first",
                    "a child without a guarantee, after one with an earlier priority",
                ),
                Option("strict", "priorities alone", "the first child, fully", "all behind a child that is never idle"),
                Option(
                    "curve",
                    "guarantees, and a delay for urgent queues",
                    "delays of traffic within its guarantee",
                    "none: spare capacity is shared by weight",
                ),
            ),
            _discipline,
        ),
        Choice(
            "aqm",
            "how a leaf keeps its queue short",
            (
                Option("fq-codel", "nothing", "small conversations from large ones", "none"),
                Option("codel", "nothing", "all packets from long delays", "small conversations among many large"),
                Option("fifo", "a limit that fits the rate", "the order of packets", "packets behind a full queue"),
            ),
            _aqm,
        ),
        Choice(
            "headroom",
            "how much of the measured rate to leave free",
            (
                Option("3 to 5%", "a steady line, such as symmetric fibre", "nearly all of the rate", "–"),
                Option(
                    "8 to 15%", "copper, cable, or a shared line", "from the modem's queue, when the rate sags", "–"
                ),
                Option("25%", "radio", "most of the time; the rate still comes and goes", "–"),
            ),
            _headroom,
        ),
        Choice(
            "framing",
            "the per-packet overhead of the line",
            (
                Option("ethernet", "another router, or fibre without a login", "–", "–"),
                Option("pppoe", "fibre with a login", "8 B more are counted", "–"),
                Option("pppoe over ptm", "copper with a login", "small packets cost a third more", "–"),
                Option("pppoa over atm llc", "old copper", "cells: a packet of 100 B costs 159 B", "–"),
                Option("ethernet over cable", "a cable modem", "–", "–"),
            ),
            _framing,
        ),
        Choice(
            "burst",
            "how much may pass at full speed before a limiter takes hold",
            (
                Option("left out", "nothing", "TCP: it reaches its rate", "–"),
                Option(
                    "small",
                    "packets that come evenly, such as a call",
                    "those behind from any burst",
                    "TCP, which then reaches a part of the rate",
                ),
                Option(
                    "large",
                    "room in the line",
                    "short downloads, which are done at once",
                    "others, for as long as the burst lasts",
                ),
            ),
            _burst,
        ),
        Choice(
            "excess",
            "what happens to packets above a limiter's rate",
            (
                Option(
                    "wait", "memory for a queue", "TCP: it slows down without loss", "none; calls wait with the rest"
                ),
                Option("drop", "a burst of two round trips", "others from a queue", "TCP with a small burst"),
                Option(
                    "mark",
                    "a router that drops marked packets first",
                    "unmarked packets",
                    "marked packets, further along",
                ),
            ),
            _excess,
        ),
    )
}
