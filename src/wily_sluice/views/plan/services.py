"""The services that rules may name, by category, and how each is recognised."""

from typing import Any

from rich.table import Table
from rich.text import Text

from wily_sluice.plan.asking import Service
from wily_sluice.plan.file.traffic_words import PROTOCOLS
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan

_NAMES = {number: name for name, numbers in PROTOCOLS.items() for number in numbers}


def _all(plan: Plan | None) -> list[Service]:
    """The person's own first, then those that come with the program."""
    own = [service for service in plan.services.values() if service.own] if plan is not None else []
    return own + [service for name, service in shipped_services().items() if name not in {one.name for one in own}]


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
    for service in sorted(_all(plan), key=lambda one: (not one.own, one.category)):
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
