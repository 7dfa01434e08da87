"""Words that plans may use: framings and services, as tables and as data."""

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.packet import Framing
from wily_sluice.plan.file.framings import COMMON, LAYERS
from wily_sluice.plan.file.traffic_words import PROTOCOLS
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.plan.terms import Service
from wily_sluice.units import format_share
from wily_sluice.views.text.console import bar, fits

LENGTHS = (1500, 576, 100, 40)  # bytes; 40 is a bare acknowledgement of TCP over IPv4
CELLS = {None: "–", "atm": "53 for 48", "ptm": "65 for 64"}


def framing_table(screen: Console, uplinks: Sequence[Uplink]) -> Table:
    """Usual stacks of layers, and those of these uplinks, in bold; on a narrow screen without bars."""
    table = _framing_table(uplinks, LENGTHS, bars=True)
    return table if fits(screen, table) else _framing_table(uplinks, (LENGTHS[0], *LENGTHS[2:]), bars=False)


def _framing_table(uplinks: Sequence[Uplink], lengths: Sequence[int], bars: bool) -> Table:
    table = Table(
        title="Framings: bytes of a packet on the line", title_justify="left", title_style="bold", box=None,
        padding=(0, 1, 0, 0),
        caption="left: the part of the line left for the packets themselves, at 1500 bytes",
        caption_justify="left",
    )  # fmt: skip
    for heading in ("framing", "carried in", "shortest", "adds"):
        table.add_column(heading, justify="left" if heading == "framing" else "right", no_wrap=True)
    for length in lengths:
        table.add_column(f"{length} B", justify="right", no_wrap=True)
    table.add_column("left", no_wrap=True, justify="left" if bars else "right")
    if uplinks:
        table.add_column("uplinks", no_wrap=True)
    rows = {stack.words: stack.framing for stack in COMMON}
    rows |= {u.framed.words: u.framing for u in uplinks}
    for name, framing in rows.items():
        users = [uplink.name for uplink in uplinks if uplink.framed.words == name]
        part = LENGTHS[0] / framing.cost(LENGTHS[0])
        share = format_share(round(part, 3))
        table.add_row(
            Text(name, "bold cyan" if users else "cyan"),
            CELLS[framing.cells],
            str(framing.minimum or "–"),
            str(framing.overhead),
            *(str(framing.cost(length)) for length in lengths),
            Text(f"{bar(part)}{share:>6}" if bars else share, "" if users else "dim"),
            *([Text(", ".join(users), "bold")] if uplinks else []),
            style="bold" if users else "",
        )
    return table


def layer_table() -> Table:
    """The overhead of each layer, with the clause of its standard."""
    table = Table(
        title="Layers, from the packet outward: join them with “over”", title_justify="left", title_style="bold",
        box=None, show_header=False,
    )  # fmt: skip
    for layer in LAYERS:
        table.add_row(Text(layer.word, "cyan", no_wrap=True), layer.adds)
    return table


def framing_data() -> dict[str, Any]:
    """The same for JSON; bytes."""

    def data(framing: Framing) -> dict[str, Any]:
        costs = {str(length): framing.cost(length) for length in LENGTHS}
        return {
            "carried-in": framing.cells,
            "shortest-frame": framing.minimum,
            "frame-adds": framing.overhead,
            "cost": costs,
        }

    return {
        "layers": {layer.word: layer.adds for layer in LAYERS},
        "stacks": {stack.words: data(stack.framing) for stack in COMMON},
    }


_NAMES = {number: name for name, numbers in PROTOCOLS.items() for number in numbers}


def _all(plan: Plan | None) -> list[Service]:
    """The person's own first, then those that come with the program."""
    own = [service for service in plan.services.values() if service.own] if plan is not None else []
    return own + [
        service for name, service in shipped_services().items() if name not in {service.name for service in own}
    ]


def port_words(service: Service) -> list[str]:
    """`443`, for both TCP and UDP; `41100-41120/udp`."""
    by_range: dict[tuple[int, int], list[int]] = {}
    for protocol, ranges in service.ports:
        by_range.setdefault(ranges, []).append(protocol)
    words = []
    for (first, last), protocols in by_range.items():
        text = str(first) if first == last else f"{first}-{last}"
        words += [text] if set(protocols) == {6, 17} else [f"{text}/{_NAMES[protocol]}" for protocol in protocols]
    return words


def signs(service: Service) -> str:
    """How it is recognised: `speaks sip; port 5060, 5061`."""
    parts = []
    if service.seen:
        parts.append(f"speaks {' or '.join(service.seen)}")
    names = [*service.names, *sorted(service.remote.names)]
    if names:
        parts.append(f"is with {', '.join(names)}")
    if service.ports:
        parts.append(f"port {', '.join(port_words(service))}")
    if service.remote.addresses:
        parts.append(f"at {service.remote.addresses}")
    text = "; ".join(parts)
    if service.shape:
        way = "is interactive" if service.shape == "interactive" else "is bulk"
        text = f"{text}; and {way}" if text else way
    return text


def service_table(plan: Plan | None) -> Table:
    """Every service, with its category on the first row."""
    table = Table(
        title="Services: a rule names one, or a category", title_justify="left", title_style="bold", box=None,
        caption="A port counts until a conversation was seen to speak something else.", caption_justify="left",
    )  # fmt: skip
    table.add_column("category", no_wrap=True, style="bold")
    table.add_column("service", no_wrap=True, style="cyan")
    table.add_column("recognised by")
    table.add_column("what it is", style="dim")
    before = ""
    for service in sorted(_all(plan), key=lambda service: (not service.own, service.category)):
        category = service.category if service.category != before else ""
        before = service.category
        table.add_row(category, Text(service.name, "bold" if service.own else ""), signs(service), service.about)
    return table


def service_data(plan: Plan | None) -> dict[str, Any]:
    """Every service for JSON."""
    return {
        service.name: {
            "category": service.category,
            "about": service.about,
            "seen": list(service.seen),
            "over": list(service.over),
            "ports": port_words(service),
            "names": [*service.names, *sorted(service.remote.names)],
            "remote": str(service.remote.addresses).split(", ") if service.remote.addresses else [],
            "shape": service.shape or None,
        }
        for service in _all(plan)
    }
