"""Findings about the size of a limiter's rate."""

from collections.abc import Iterator

from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.limiters import capping, widest_line
from wily_sluice.units import MILLISECOND, Rate, format_rate, format_share, format_time, transmission_time

MANY = 16  # addresses
EACH: Rate = 200_000  # bit/s, if ten of them are there
SMALL = 0.1  # of the line


@kind(
    "total-cap-small",
    "warning",
    story="""\
A limiter without `per` caps all its hosts together. One guest's download then leaves nothing for the others. With
`per: host`, each has the rate.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 1 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 1 Mbit/s}
""",
)
def total_cap_small(checked: Checked) -> Iterator[Told]:
    """A cap for many hosts together that is so small that a cap for each was likely meant."""
    for limiter, caps in capping(checked):
        if limiter.per.whom != "together" or limiter.hosts is None or limiter.services or limiter.remote:
            continue
        hosts = sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in limiter.hosts.addresses)
        for way, rate in caps.items():
            if hosts >= MANY and rate < 10 * EACH and rate < SMALL * widest_line(checked.plan, limiter, way):
                message = (
                    f"{format_rate(rate)} {way} is for all hosts together: with ten hosts, "
                    f"{format_rate(rate / 10)} each"
                )
                yield Told(
                    ("limiters", limiter.name, way), message, "write `per: host` if each host should get this rate"
                )
                break


FEW = 3  # hosts


@kind(
    "caps-overbook",
    "warning",
    story="""\
A cap for each host protects the uplink only if few hosts are busy at once. When two or three hosts fill the uplink,
the others depend on the queues alone.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 20 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 10 Mbit/s}
""",
)
def caps_overbook(checked: Checked) -> Iterator[Told]:
    """A cap for each host that lets two or three hosts fill the uplink."""
    for limiter, caps in capping(checked):
        if limiter.per.whom not in ("host", "address") or limiter.threshold is not None or limiter.quota is not None:
            continue
        addresses = limiter.hosts.addresses if limiter.hosts is not None else checked.hosts
        if sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in addresses) <= FEW:
            continue
        for uplink in checked.plan.uplinks:
            for way, rate in caps.items() if limiter.uplink in (None, uplink.name) else ():
                filling = -(-uplink.usable(way) // rate)
                if 1 < filling <= FEW and limiter.uplink is None and uplink is not checked.plan.uplinks[0]:
                    continue  # a smaller line, for when the first is away
                if 1 < filling <= FEW:
                    message = f"{filling} hosts at {format_rate(rate)} fill {uplink.name} {way}"
                    remedy = "lower it, add `engage: above 80%`, or a second limiter for all hosts together"
                    yield Told(("limiters", limiter.name, way), message, remedy)


LONG = 500 * MILLISECOND


@kind(
    "rate-blocks",
    "warning",
    story="""\
A rate near zero does not block a host: its programs keep trying, and the user sees a broken connection. To keep
hosts out, reject their packets in the firewall, so that programs fail at once.
""",
    has="""\
limiters:
  tablet: {local: 192.0.2.9, down: 8 kbit/s}
""",
    lacks="""\
limiters:
  tablet: {local: 192.0.2.9, down: 64 kbit/s}
""",
)
def rate_blocks(checked: Checked) -> Iterator[Told]:
    """A rate so low that one packet takes half a second or more."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items():
            wait = transmission_time(LONGEST_FRAME, rate)
            if wait >= LONG:
                message = (
                    f"at {format_rate(rate)}, one full packet takes {format_time(wait)}: nothing works at that rate"
                )
                yield Told(("limiters", limiter.name, way), message, "to block hosts, use the firewall")


@kind(
    "engage-idle",
    "note",
    story="""\
This limiter leaves its hosts the idle uplink, as intended. A speed test without other traffic shows the full rate,
which can look as if the limiter did not work.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s, engage: above 80%}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s}
""",
)
def engage_idle(checked: Checked) -> Iterator[Told]:
    """A limiter that a test on an idle line does not show."""
    for limiter, caps in capping(checked):
        if limiter.threshold is not None and limiter.enabled:
            rates = " and ".join(f"{format_rate(rate)} {way}" for way, rate in caps.items())
            message = (
                f"holds only while others use the line above {format_share(limiter.threshold)}: a test on an idle line "
                f"shows more than {rates}"
            )
            yield Told(("limiters", limiter.name, "engage"), message, "to test it, fill the line from another host")
