"""Interfaces and links."""

from collections.abc import Iterator
from ipaddress import ip_network

from wily_sluice.doctor.check import Change, Check, Facts, Found, Interface
from wily_sluice.doctor.features import MERGING, path_of
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, format_rate

# What an interface has by itself, beside the discipline that the kernel is set to give it.
OWN_DISCIPLINES = ("", "noop", "noqueue", "mq", "pfifo_fast")
USUAL = "net/core/default_qdisc"


def _named(plan: Plan) -> Iterator[tuple[str, str]]:
    """Every interface of the plan, and whose it is."""
    for uplink in plan.uplinks:
        yield uplink.interface, f"uplink {uplink.name}"
    for tunnel in plan.tunnels:
        yield tunnel.interface, f"tunnel {tunnel.name}"
    for network in plan.networks:
        yield network.interface, f"network {network.name}"


def _here(plan: Plan, facts: Facts) -> Iterator[tuple[Interface, str]]:
    for name, whose in _named(plan):
        if name in facts.interfaces:
            yield facts.interfaces[name], whose


def _missing(plan: Plan, facts: Facts) -> Iterator[Found]:
    named = {name for name, _ in _named(plan)}
    for name, whose in _named(plan):
        if name in facts.interfaces:
            continue
        free = sorted(interface for interface in facts.interfaces if interface not in named and interface != "lo")
        subnets = [ip_network(subnet) for n in plan.networks if f"network {n.name}" == whose for subnet in n.subnets]
        likely = [
            name
            for name in free
            if any(address.ip in subnet for address in facts.interfaces[name].addresses for subnet in subnets)
            or (whose.startswith("uplink") and any(name in ways for ways in facts.ways_out.values()))
        ]
        remedy = f"it may be {' or '.join(likely or free)} now" if free else "plug it in, or name another"
        yield Found(whose, f"there is no interface {name}", remedy)


def _no_link(plan: Plan, facts: Facts) -> Iterator[Found]:
    for interface, whose in _here(plan, facts):
        if not interface.link:
            yield Found(
                whose, f"{interface.name} has no link", f"look at the cable; or `ip link set {interface.name} up`"
            )


def _port(plan: Plan, facts: Facts) -> Iterator[Found]:
    for interface, whose in _here(plan, facts):
        if interface.bridge:
            message = f"{interface.name} is a port of the bridge {interface.bridge}, which packets come and leave by"
            yield Found(whose, message, f"name {interface.bridge} in the plan")


def _slower(plan: Plan, facts: Facts) -> Iterator[Found]:
    for uplink in plan.uplinks:
        interface = facts.interfaces.get(uplink.interface)
        if interface is None:
            continue
        fastest = max(uplink.measured(way) for way in DIRECTIONS)
        if interface.speed is not None and interface.speed < fastest:
            speed, planned = format_rate(interface.speed), format_rate(fastest)
            message = f"the link of {interface.name} runs at {speed}, the plan at {planned}"
            yield Found(f"uplink {uplink.name}", message, "look at the cable and at the other end's port")
        if interface.full_duplex is False:
            message = f"{interface.name} sends and receives by turns (half duplex)"
            yield Found(f"uplink {uplink.name}", message, "let both ends negotiate, or set both to full duplex")


def _discipline(plan: Plan, facts: Facts) -> Iterator[Found]:
    for uplink in plan.uplinks:
        interface = facts.interfaces.get(uplink.interface)
        own = (*OWN_DISCIPLINES, facts.settings.get(USUAL, ""))
        if interface is not None and interface.discipline not in own:
            message = f"the kernel has another queueing discipline at {interface.name} than usual"
            remedy = f"remove it ({interface.discipline}), so that the interface has its usual queue"
            yield Found(f"uplink {uplink.name}", message, remedy)


def _sleeps(plan: Plan, facts: Facts) -> Iterator[Found]:
    for interface, whose in _here(plan, facts):
        if interface.sleeps:
            path = f"/sys/class/net/{interface.name}/device/power/control"
            message = f"the device of {interface.name} may be suspended to save power, and then takes long to wake"
            yield Found(whose, message, f"write “on” to {path}", (Change(path, "on"),))


def _merges(plan: Plan, facts: Facts) -> Iterator[Found]:
    for interface, whose in _here(plan, facts):
        for feature in MERGING:
            if feature in interface.features:
                message = f"the card of {interface.name} makes one of several packets ({feature}), up to 64 kB long"
                change = Change(path_of(interface.name, feature), "off")
                yield Found(whose, message, f"`ethtool -K {interface.name} {feature} off`", (change,))


def _clamp_missing(plan: Plan, facts: Facts) -> Iterator[Found]:
    inside = [
        facts.interfaces[network.interface].mtu for network in plan.networks if network.interface in facts.interfaces
    ]
    for line in plan.lines:
        interface = facts.interfaces.get(line.interface)
        if interface is not None and facts.clamps is False and inside and 0 < interface.mtu < max(inside):
            message = f"{interface.name} takes packets of {interface.mtu} bytes, hosts send {max(inside)}, and no rule "
            message += "tells them so"
            rule = "iptables -t mangle -A FORWARD -p tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu"
            yield Found(line.name, message, f"`{rule}`, and the same with ip6tables")


CHECKS = (
    Check(
        "interface-missing",
        "error",
        "An interface of the plan is not there. Names can change with a new card, a new kernel or another slot.",
        _missing,
    ),
    Check(
        "link-missing", "warning", "An interface is there, but nothing is connected, or it was never set up.", _no_link
    ),
    Check(
        "bridge-port",
        "error",
        "Packets that a bridge carries come and leave by the bridge; the gate does not see them at its ports.",
        _port,
    ),
    Check(
        "link-slower",
        "error",
        "The link to the modem is slower than the line, or half duplex. Packets then queue at the link, where calls "
        "have no precedence.",
        _slower,
    ),
    Check(
        "discipline-behind",
        "warning",
        "Another program made the kernel queue packets after the gate. That queue does not follow the plan.",
        _discipline,
    ),
    Check(
        "device-sleeps",
        "warning",
        "A network card that sleeps between packets delays the next packet by milliseconds.",
        _sleeps,
    ),
    Check(
        "card-merges",
        "warning",
        "A card that makes one packet of several hands the gate lumps that keep a slow line busy for milliseconds.",
        _merges,
    ),
    Check(
        "clamp-missing",
        "warning",
        "If the line takes shorter packets than hosts send, connections hang unless TCP's segment size is lowered.",
        _clamp_missing,
    ),
)
