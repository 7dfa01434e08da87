"""What happened around a gate, as a table and as data."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from rich.table import Table

from wily_sluice.history.event_store import Happened

WORDS = {
    "uplink.down": "{uplink} is down: {why}",
    "uplink.back": "{uplink} is used again",
    "probe.astray": "{remotes} never answered over {uplink}, while others do: only its link counts",
    "probe.unheard": "{remote} does not answer over {uplink}: the rate is found by other means",
    "probes.unusable": "no probes can be sent, so a silent uplink is not noticed: {why}",
    "routes.unusable": "the kernel refuses a route: {why}",
    "routes.shared": "{why}, as the gate does: use firewall-mark-bits {bits} and routing-preference {preference}",
    "uplink.unnamed": "traffic crosses {interface}, which is no uplink of the plan, and bypasses the gate",
    "strangers.seen": "{network} has hosts outside its subnets, such as {address}",
    "uplink.bypassed": "{part:.1%} of {uplink} bypassed the gate",
    "interface.missing": "interface {interface} is missing",
    "interface.back": "interface {interface} is back",
    "route.spent": "route {route} has used its part of the quota",
    "route.again": "route {route} is used again",
    "mapping.made": "{host} had {port} opened, outside {outside}, on {uplink} ({grant}, by {by})",
    "mapping.ended": "{port} of {host} is closed",
    "mapping.refused": "{host} asked for {port} by {by} and was refused: {why}",
    "mapping.revoked": "{who} closed port {port} of {host}",
    "port.moved": "{host} could not keep {port} toward {remote}: it became {became}",
    "chain.repaired": "the gate’s chain was removed, and repaired",
    "chain.bypassed": "a rule of another program is ahead of the gate’s chain",
    "chain.unrepaired": "the gate’s chain cannot be repaired: {why}",
    "tracking.full": "the kernel’s connection table is nearly full: {connections:,} of {limit:,}",
    "tracking.back": "the kernel’s connection table has room again: {connections:,} connections",
    "quotas.unreadable": "use of the quota of {limiter} cannot be read: {why}",
    "mappings.unusable": "ports cannot be opened: {why}",
}


def sentence(one: Happened) -> str:
    """The sentence for an event; its name and details if there is none."""
    try:
        return WORDS[one.event].format(**one.about)
    except (KeyError, ValueError):
        return " ".join((one.event, *(f"{key}={value}" for key, value in one.about.items())))


def events_table(events: Sequence[Happened]) -> Table:
    """One row for each, in local time."""
    table = Table(box=None, pad_edge=False, header_style="bold")
    table.add_column("When", no_wrap=True)
    table.add_column("What happened", overflow="fold")
    for one in events:
        when = datetime.fromtimestamp(one.at, UTC).astimezone()
        table.add_row(f"{when:%Y-%m-%d %H:%M:%S}", sentence(one))
    return table


def events_data(events: Sequence[Happened]) -> list[dict[str, Any]]:
    """For JSON; `at` is in seconds since 1970."""
    return [{"at": round(one.at, 3), "event": one.event, "about": one.about} for one in events]
