"""Addresses, routes and forwarding."""

from collections.abc import Iterator
from fnmatch import fnmatchcase
from ipaddress import ip_network

from wily_sluice.doctor.check import Check, Facts, Found, setting
from wily_sluice.plan.mark_field import clashes, free_field
from wily_sluice.plan.model import Plan

LOOSE, STRICT = "2", 1  # of reverse-path filtering (ip-sysctl)
FORWARDING = {4: "net/ipv4/ip_forward", 6: "net/ipv6/conf/all/forwarding"}


def _versions(plan: Plan) -> set[int]:
    """The versions of IP that hosts of the plan have."""
    return {ip_network(subnet).version for network in plan.networks for subnet in network.subnets}


def _forwarding(plan: Plan, facts: Facts) -> Iterator[Found]:
    for version in sorted(_versions(plan)):
        path = FORWARDING[version]
        if facts.number(path) == 0:
            message = f"this machine does not forward IPv{version}, so hosts cannot reach the internet through it"
            yield Found(f"IPv{version}", message, f"set {setting(path, '').setting} to 1", (setting(path, "1"),))


def _unnamed(plan: Plan, facts: Facts) -> Iterator[Found]:
    named = {uplink.interface for uplink in plan.uplinks} | {tunnel.interface for tunnel in plan.tunnels}
    for name in sorted({name for ways in facts.ways_out.values() for name in ways} - named - {"lo"}):
        message = f"a default route uses {name}, which is not an uplink of the plan: traffic there is not shaped"
        yield Found(name, message, f"add an uplink with `interface: {name}`, or remove that route")


def _no_way(plan: Plan, facts: Facts) -> Iterator[Found]:
    for version in sorted(_versions(plan)):
        if not facts.ways_out.get(version):
            message = f"hosts have IPv{version}, but no default route of IPv{version} leads out"
            remedy = "ask the provider for it" if version == 6 else "see how the uplink gets its address"
            yield Found(
                f"IPv{version}", message, remedy if version == 4 else f"{remedy}, or remove it from the networks"
            )


def _no_address(plan: Plan, facts: Facts) -> Iterator[Found]:
    for network in plan.networks:
        interface = facts.interfaces.get(network.interface)
        if interface is None:
            continue
        for subnet in map(ip_network, network.subnets):
            if not any(address.ip in subnet for address in interface.addresses):
                message = f"{network.interface} has no address in {subnet}, so its hosts have no gateway there"
                example = f"{next(subnet.hosts())}/{subnet.prefixlen}"
                yield Found(f"network {network.name}", message, f"`ip address add {example} dev {network.interface}`")


def _ignored(plan: Plan, facts: Facts) -> Iterator[Found]:
    for uplink in plan.uplinks:
        path = f"net/ipv6/conf/{uplink.interface}/accept_ra"
        forwards = facts.number(FORWARDING[6]) == 1 or 6 in _versions(plan)
        if forwards and facts.number(path) == 1:
            message = f"{uplink.interface} ignores router advertisements of IPv6 while this machine forwards"
            remedy = f"set {setting(path, '').setting} to 2, unless its IPv6 comes otherwise"
            yield Found(f"uplink {uplink.name}", message, remedy, (setting(path, "2"),))


def _strict(plan: Plan, facts: Facts) -> Iterator[Found]:
    if len(plan.uplinks) < 2:
        return
    common = facts.number("net/ipv4/conf/all/rp_filter") or 0
    for uplink in plan.uplinks:
        path = f"net/ipv4/conf/{uplink.interface}/rp_filter"
        own = facts.number(path)
        if own is not None and max(own, common) == STRICT:
            message = f"{uplink.interface} drops answers of hosts that the main table would reach by another uplink"
            yield Found(
                f"uplink {uplink.name}", message, f"set {setting(path, '').setting} to 2", (setting(path, LOOSE),)
            )


def _untranslated(plan: Plan, facts: Facts) -> Iterator[Found]:
    subnets = [ip_network(subnet) for network in plan.networks for subnet in network.subnets]
    private = next((subnet for subnet in subnets if subnet.version == 4 and subnet.is_private), None)
    if facts.translated is None or private is None:
        return
    for uplink in plan.uplinks:
        if uplink.interface in facts.interfaces and not any(
            fnmatchcase(uplink.interface, name) for name in facts.translated
        ):
            message = f"private addresses of {private} leave {uplink.interface} untranslated, so no reply comes back"
            rule = f"iptables -t nat -A POSTROUTING -o {uplink.interface} -j MASQUERADE"
            yield Found(f"uplink {uplink.name}", message, f"run `{rule}`, unless the next router translates them")


def _closed(plan: Plan, facts: Facts) -> Iterator[Found]:
    for version in sorted(_versions(plan) & set(facts.closed)):
        network = plan.networks[0].interface
        command = "iptables" if version == 4 else "ip6tables"
        message = f"a filter drops every new IPv{version} conversation that this machine should forward"
        yield Found(
            f"IPv{version}", message, f"accept those from your networks: `{command} -A FORWARD -i {network} -j ACCEPT`"
        )


def _shared(plan: Plan, facts: Facts) -> Iterator[Found]:
    if not plan.routing:
        return
    field = plan.gate.marks
    free = free_field(field, facts.mark_uses)
    settings = [f"firewall-mark-bits: {free}"] if str(free) != str(field) else []
    settings += [f"routing-preference: {free.preference}"] if free.preference != field.preference else []
    for clash in clashes(field, facts.mark_uses):
        yield Found("routes", f"{clash}, as the gate does", f"write `gate: {{{', '.join(settings)}}}` in the plan")


CHECKS = (
    Check(
        "forwarding-off",
        "error",
        "The gate shapes forwarded packets, but the kernel does not forward any.",
        _forwarding,
    ),
    Check(
        "forwarding-filtered",
        "error",
        "A chain of the forward hook drops by its policy, and no rule in it accepts new conversations.",
        _closed,
    ),
    Check("uplink-unnamed", "error", "A line that the plan does not know is neither shaped nor counted.", _unnamed),
    Check(
        "no-way-out",
        "warning",
        "Hosts that have addresses of a version of IP try it, and wait until they find out that it leads nowhere.",
        _no_way,
    ),
    Check("no-address", "error", "The gateway needs an address in each subnet that it serves.", _no_address),
    Check(
        "advertisements-ignored",
        "warning",
        "Most providers announce the IPv6 route in router advertisements. A machine that forwards IPv6 ignores these "
        "unless accept_ra is 2.",
        _ignored,
    ),
    Check(
        "marks-shared",
        "error",
        "Routes mark conversations in some bits of the kernel's firewall mark, and add routing rules for these marks. "
        "Where another program uses the same bits, each overwrites the marks of the other; where it has the same "
        "preferences, the order of the rules is left to chance.",
        _shared,
    ),
    Check(
        "reverse-path",
        "error",
        "With several uplinks, answers arrive on other uplinks than the main table would choose. Strict reverse-path "
        "filtering (RFC 3704 §2.2) drops them; loose filtering (§2.4) does not.",
        _strict,
    ),
    Check(
        "not-translated",
        "warning",
        "Replies to private addresses (RFC 1918) never come back. Each uplink needs its own translation, including one "
        "that is used only while another is down.",
        _untranslated,
    ),
)
