"""Acknowledgements of full downloads that take most of the way up."""

from collections.abc import Iterator

from wily_sluice.engine.framing import LARGEST_PACKET
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import format_rate, format_share

ACK = 52  # bytes of an IP packet: TCP with timestamps, and no data
EVERY = 2  # full packets are acknowledged together (RFC 9293 §3.8.6.3)
MUCH = 0.25  # of the way up


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink, unless a rule gives acknowledgements their own queue."""
    if any(terms.kinds for _, terms in checked.asked):
        return
    for uplink in checked.plan.uplinks:
        packets = uplink.usable("down") / uplink.framing.cost(LARGEST_PACKET)
        acks = round(packets / EVERY * uplink.framing.cost(ACK))
        part = acks / uplink.usable("up")
        if part > MUCH:
            message = (
                f"acknowledging {format_rate(uplink.usable('down'))} down takes {format_rate(acks)} up, "
                f"{format_share(part)} of the way up: uploads slow downloads"
            )
            remedy = "add {packet: acknowledgement, queue: …} with a queue that has this guarantee"
            yield Told(("uplinks", uplink.name, "up"), message, remedy)


KIND = Kind(
    "acks-fill-uplink",
    "warning",
    find,
    story="""\
TCP acknowledges every second packet. If the uplink is far slower up than down, the acknowledgements of a full
download fill the way up, and any upload then slows the download. Give acknowledgements their own queue with a
guarantee.
""",
    has="""\
uplinks:
  line: {down: 100 Mbit/s, up: 5 Mbit/s}
""",
    lacks="""\
uplinks:
  line: {down: 100 Mbit/s, up: 20 Mbit/s}
""",
)
