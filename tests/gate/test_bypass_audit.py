"""What bypasses the gate is told when it matters, and not before."""

from typing import Any

import pytest

from wily_sluice.gate.bypass_audit import WINDOW, BypassAudit, Moved
from wily_sluice.gate.kernel.machine import Crossed
from wily_sluice.plan.model import Directional, Uplink

FIBRE = Uplink("fibre", "wan0", 10**8, 10**7, Directional(0.1, 0.1))
FRAME, ARP = 1514, 42


def told(past: int, each: int, packets: int = 1000) -> list[dict[str, Any]]:
    """After a window in which so many packets a second came by the gate, and so many frames past it."""
    events: list[dict[str, Any]] = []
    balance = BypassAudit(lambda event, level, **about: events.append({"event": event, **about}))
    for second in range(WINDOW + 1):
        ours = Moved(second * packets * (FRAME - 14), second * packets)
        line = second * (packets * FRAME + past * each)
        crossed = Crossed(0, 0, line, line)
        balance.look((FIBRE,), {"wan0": crossed}, {"wan0": 14}, {("fibre", "up"): ours, ("fibre", "down"): ours})
    each_way = (WINDOW * (packets * FRAME + past * each), WINDOW * packets * FRAME)
    assert balance.crossed() == {"fibre": {"up": each_way, "down": each_way}}
    return events


@pytest.mark.parametrize(
    ("past", "each", "packets", "events"),
    [
        (10, FRAME, 1000, 2),  # one in a hundred, each way
        (4, FRAME, 1000, 0),  # four in a thousand
        (1, ARP, 1, 0),  # a neighbour asks beside an idle line
        (60, ARP, 1, 0),  # and a lot of them do
        (-60, FRAME, 1000, 2),  # the gate gets some twice
        (-40, FRAME, 1000, 0),  # less than counters may differ by
        (12, FRAME, 1, 2),  # an idle line, and beside it packets that should have come by the gate
    ],
)
def test_what_goes_past_is_told_if_it_is_more_than_neighbours_say(
    past: int, each: int, packets: int, events: int
) -> None:
    assert [one["event"] for one in told(past, each, packets)] == [
        "uplink.overcounted" if past < 0 else "uplink.bypassed"
    ] * events
