"""Findings about uplinks and networks: rates, headroom, addresses, probes."""

from collections.abc import Iterator
from ipaddress import ip_address

from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.units import DIRECTIONS, Rate, format_rate, format_share


@kind(
    "missing-part",
    "error",
    story="""\
A plan needs a site, at least one uplink and at least one tree. An uplink has the rate, and a tree divides it.
""",
    has="trees: null",
    lacks="site: Another example",
)
def missing_part(checked: Checked) -> Iterator[Told]:
    """A plan without one of the parts that each must have."""
    for key in ("site", "uplinks", "trees"):
        if not getattr(checked.reading.content, key) and not any(cut[:1] == (key,) for cut in checked.reading.cut):
            examples = PlanEntry.model_fields[key].examples or []
            yield Told((key,), f"“{key}” is missing", f"add {key}: {examples[0]}")


@kind(
    "uplink-loop",
    "warning",
    story="""\
If the next hop of an uplink, or the far end of a tunnel, is one of your own hosts, packets return to where they
came from. The encapsulated packets of a tunnel cannot use the tunnel itself either; the gate ignores such a route.
""",
    has="""\
uplinks:
  line: {next-hop: 192.0.2.1}
""",
    lacks="""\
uplinks:
  line: {next-hop: 203.0.113.1}
""",
)
def uplink_loop(checked: Checked) -> Iterator[Told]:
    """A line that leads back to where its packets come from."""
    plan = checked.plan
    for section, lines in (("uplinks", plan.uplinks), ("tunnels", plan.tunnels)):
        for line in lines:
            for address in line.next_hops:
                if ip_address(address).packed in plan.hosts:
                    message = f"{address} is a local host: packets sent there would come back"
                    yield Told((section, line.name, "next-hop"), message, "name the router at the line's far end")
    for tunnel in plan.tunnels:
        for address in tunnel.remotes:
            packed = ip_address(address).packed
            if packed in plan.hosts:
                message = f"{address} is a local host: the tunnel would lead back into your network"
                yield Told(("tunnels", tunnel.name, "remote"), message, "name its far end, beyond an uplink")
            for route in plan.routing:
                remote = route.terms.remote
                into = {name for name, _ in route.shares} | {route.otherwise}
                if remote is not None and packed in remote.addresses and tunnel.name in into:
                    loop = f"sends {address} into {tunnel.name}, but it is the far end of {tunnel.name} itself"
                    message = f"{loop}: to avoid a loop, the gate uses {tunnel.uplink}"
                    yield Told(("routes", route.index), message, "exclude this address")


@kind(
    "failure-unseen",
    "note",
    story="""\
When a provider's network fails, the link to the modem usually stays up, and packets get no answer. Routes keep
using the uplink unless the gate probes it. With `probe`, the gate pings remotes that you name once a second, for
instance your provider's DNS servers, and leaves the uplink when several pings in a row get no answer.
""",
    has="""\
uplinks:
  line: {}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s}
routes:
  - {uplink: line, else: mobile}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.53]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s}
routes:
  - {uplink: line, else: mobile}
""",
)
def failure_unseen(checked: Checked) -> Iterator[Told]:
    """An uplink with an alternative, whose failure is not noticed while its link stays up."""
    plan = checked.plan
    carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
    unseen: dict[str, str] = {}
    for route in plan.routing:
        lines = [name for name, _ in route.shares] + ([route.otherwise] if route.otherwise is not None else [])
        for name, _ in route.shares:
            others = [other for other in lines if carriers.get(other, other) != carriers.get(name, name)]
            if others:
                unseen.setdefault(carriers.get(name, name), others[0])
    for uplink in plan.uplinks:
        if uplink.probing is None and uplink.name in unseen:
            only = "has no probe, so its failure is only noticed if the link goes down too"
            message = f"{only}; otherwise {unseen[uplink.name]} does not take over"
            yield Told(("uplinks", uplink.name), message, "add `probe:` with remotes that always answer")


@kind(
    "probe-nowhere",
    "warning",
    story="""\
A probe tests an uplink with a remote on the internet. A local address, or one that many machines share, never
answers, even if the uplink works.
""",
    has="""\
uplinks:
  line: {probe: [198.51.100.53]}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.53]}
""",
)
def probe_nowhere(checked: Checked) -> Iterator[Told]:
    """A probe of a line that goes where no line leads."""
    for uplink in checked.plan.uplinks:
        for remote in uplink.probing.remotes if uplink.probing is not None else ():
            address = ip_address(remote)
            if address.is_loopback or address.is_unspecified:
                what = "is this machine itself"
            elif address.packed in checked.hosts:
                what = "is a local host"
            elif address.is_multicast or remote == "255.255.255.255":
                what = "is no single remote"
            elif address.is_link_local:
                what = "is on one link only"
            else:
                continue
            message = f"{remote} {what}, so it never answers over {uplink.name}"
            yield Told(("uplinks", uplink.name, "probe"), message, "name a remote beyond the line that always answers")


@kind(
    "nothing-usable",
    "error",
    story="""\
Headroom is the part of the measured rate to leave free. At 100%, no rate is left for any queue.
""",
    has="""\
uplinks:
  line: {headroom: 100%}
""",
    lacks="""\
uplinks:
  line: {headroom: 50%}
""",
)
def nothing_usable(checked: Checked) -> Iterator[Told]:
    """A headroom that leaves nothing of the line."""
    for uplink in checked.plan.uplinks:
        if any((uplink.headroom.of(way) or 0) >= 1 for way in DIRECTIONS):
            location = ("uplinks", uplink.name, "headroom")
            yield Told(location, "nothing of the line is left", "write it like 8%")


LEAST, LEAST_VARYING = 0.03, 0.02  # of the measured rate; the rate of a line that varies is found by its delay


@kind(
    "little-headroom",
    "warning",
    once=True,
    story="""\
A queue forms at the slowest point. The gate only decides the order of packets if that point is the gate itself, so it
must send a little less than the line carries. Without headroom, packets wait in the modem instead, first come first
served, and no plan has any effect there. 3 to 5% is enough on symmetric fibre; copper, cable and shared lines need 8
to 15%, radio about 25%.
""",
    has="""\
uplinks:
  line: {headroom: 1%}
""",
    lacks="""\
uplinks:
  line: {headroom: 5%}
""",
)
def little_headroom(checked: Checked) -> Iterator[Told]:
    """A headroom so small that packets still wait in the modem."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            headroom = uplink.headroom.of(way) or 0
            if headroom < (LEAST if uplink.lowest.of(way) is None else LEAST_VARYING):
                message = f"with {format_share(headroom)} left free {way}, packets queue in the modem, out of reach"
                yield Told(("uplinks", uplink.name, "headroom"), message, "use 5% to 10%")


SLOWEST: Rate = 32_000  # bit/s


@kind(
    "rate-too-low",
    "warning",
    story="""\
No line is this slow. Most likely the unit is wrong, such as kbit/s for Mbit/s, and everything would be squeezed into
a fraction of the line.
""",
    has="""\
uplinks:
  line: {up: 30 kbit/s}
""",
    lacks="""\
uplinks:
  line: {up: 5 Mbit/s}
""",
)
def rate_too_low(checked: Checked) -> Iterator[Told]:
    """A line slower than any line: most likely the unit is wrong."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            if uplink.usable(way) < SLOWEST:
                message = f"{format_rate(uplink.measured(way))} is slower than any line; is the unit right?"
                yield Told(("uplinks", uplink.name, way), message, "write it like 24 Mbit/s")


@kind(
    "binary-rate",
    "warning",
    story="""\
Rates of lines are decimal: 1 Mbit/s is 1,000,000 bit/s. This one is a multiple of 1,048,576 or 1,024,000, so it was
probably converted with 1024. A line set 5% too fast queues in the modem.
""",
    has="""\
uplinks:
  line: {down: 51200 kbit/s}
""",
    lacks="""\
uplinks:
  line: {down: 51000 kbit/s}
""",
)
def binary_rate(checked: Checked) -> Iterator[Told]:
    """A rate that was most likely worked out with the wrong factor, 1024 for 1000."""
    plan = checked.plan
    rates = [(("uplinks", u.name, way), u.measured(way)) for u in plan.uplinks for way in DIRECTIONS]
    rates += [(("limiters", lim.name, way), lim.rate(way) or 0) for lim in plan.limiters for way in DIRECTIONS]
    for location, rate in rates:
        for binary in (2**20, 1024 * 1000):
            times = rate // binary
            if rate % binary == 0 and times > 2 and rate % 10**6:
                message = f"{format_rate(rate)} is {times} × {binary:,} bit/s, and 1 Mbit/s is 1,000,000 bit/s"
                yield Told(location, message, f"write {times} Mbit/s if you mean that")
                break


@kind(
    "measured-as-advertised",
    "warning",
    story="""\
Shaping needs the rate that the line really has. The advertised rate is often higher. Packets then queue in the
modem, where a plan has no effect.
""",
    has="""\
uplinks:
  line: {advertised: {down: 50 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {advertised: {down: 55 Mbit/s}}
""",
)
def measured_as_advertised(checked: Checked) -> Iterator[Told]:
    """A line whose measured rate is exactly the advertised one."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            if uplink.advertised.of(way) == uplink.measured(way):
                message = f"{format_rate(uplink.measured(way))} {way} is the advertised rate: did you measure it?"
                yield Told(("uplinks", uplink.name, way), message, "measure the line when it is quiet, and write that")


@kind(
    "uplink-unmeasured",
    "note",
    story="""\
Priorities and guarantees only work if packets queue in the gate. If the line is slower than the plan says, they
queue in the modem, first come, first served. 85% of the advertised rate is a cautious guess until you measure.
""",
    has="""\
uplinks:
  line: {down: 85 Mbit/s, advertised: {down: 100 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {down: 88 Mbit/s, advertised: {down: 100 Mbit/s}}
""",
)
def uplink_unmeasured(checked: Checked) -> Iterator[Told]:
    """An uplink that was not measured: its rate is the assumed share of the advertised one."""
    for uplink in checked.plan.uplinks:
        advertised = {way: rate for way in DIRECTIONS if (rate := uplink.advertised.of(way)) is not None}
        if all(uplink.measured(way) == round(rate * UNMEASURED) for way, rate in advertised.items()):
            for way in advertised:
                message = (
                    f"{format_rate(uplink.measured(way))} {way} is {format_share(UNMEASURED)} of the advertised rate, "
                    "a guess: priorities only work at the rate that the line really has"
                )
                yield Told(("uplinks", uplink.name, way), message, "measure the line when it is quiet, and write that")


NEARLY = 1.1  # of what was advertised: some lines have a little more


@kind(
    "measured-above-advertised",
    "warning",
    story="""\
Some lines send a short burst faster than they can sustain, and a quick measurement shows the burst. If the plan's
rate is above the sustained rate, packets queue in the modem.
""",
    has="""\
uplinks:
  line: {advertised: {down: 40 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {advertised: {down: 48 Mbit/s}}
""",
)
def measured_above_advertised(checked: Checked) -> Iterator[Told]:
    """An uplink with a measured rate above the advertised one."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            advertised = uplink.advertised.of(way)
            if advertised is not None and uplink.measured(way) > advertised * NEARLY:
                message = (
                    f"{format_rate(uplink.measured(way))} {way} is above the {format_rate(advertised)} that were "
                    "advertised: packets queue in the modem"
                )
                yield Told(("uplinks", uplink.name, way), message, "measure again; short bursts measure too much")


ACK = 52  # bytes of an IP packet: TCP with timestamps, and no data
EVERY = 2  # full packets are acknowledged together (RFC 9293 §3.8.6.3)
MUCH = 0.25  # of the way up


@kind(
    "acks-fill-uplink",
    "warning",
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
def acks_fill_uplink(checked: Checked) -> Iterator[Told]:
    """Acknowledgements of full downloads that take most of the way up."""
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
