"""A plan's parts as plain sentences."""

from wily_sluice.plan.file.traffic_words import dscp_text, kinds_text, ports_text, protocol_text
from wily_sluice.plan.model import Network, Party, Plan, Rule, Terms, Uplink
from wily_sluice.units import DIRECTIONS, format_rate, format_rate_both, format_share, format_size, format_time


def who(party: Party) -> str:
    """`handsets, or 10.61.0.7`."""
    return " or ".join(party.words)


def rule_sentence(rule: Rule) -> str:
    """What a rule sorts, and where to."""
    terms = rule.terms
    if terms.anyone:
        text = "Every conversation"
    else:
        kinds = f"{kinds_text(terms.kinds)} packets of " if terms.kinds else ""
        protocols = f"{protocol_text(terms.protocols)} " if terms.protocols else ""
        text = f"{kinds}{protocols}conversations{terms_text(terms)}"
    verb = "goes" if terms.anyone else "go"
    parts = [f"{verb} to {destination(rule)}"] if rule.queues or rule.mark is None else []
    if rule.mark is not None:
        parts.append(f"{'is' if terms.anyone else 'are'} marked {dscp_text((rule.mark,))}")
    sentence = f"{text} {' and '.join(parts)}."
    return sentence[0].upper() + sentence[1:] + ("" if rule.enabled else " Switched off.")


def terms_text(terms: Terms) -> str:
    """What a conversation must be, but for its protocol and the kind of its packets."""
    text = ""
    if terms.local:
        text += f" of {who(terms.local)}"
    if terms.networks:
        text += f" in {who(terms.networks)}"
    if terms.remote:
        text += f" with {who(terms.remote)}"
    if terms.service_words:
        text += f" of service {' or '.join(terms.service_words)}"
    for ranges, which in (
        (terms.ports, "port"),
        (terms.local_ports, "local port"),
        (terms.remote_ports, "remote port"),
    ):
        if ranges:
            text += f" on {which} {ports_text(ranges)}"
    if terms.uplinks:
        text += f" over {' or '.join(terms.uplinks)}"
    if terms.version:
        text += f" over IPv{terms.version}"
    if terms.dscps:
        text += f" in which a packet is marked {dscp_text(terms.dscps)}"
    if terms.moved:
        size, over = terms.moved
        text += f" that have moved {'over' if over else 'no more than'} {format_size(size)}"
    if terms.rate:
        rate, longest = terms.rate
        text += f" that have run at over {format_rate_both(rate)} for {format_time(longest)}"
    if terms.when:
        text += f" during {terms.when}"
    for part in terms.all:
        text += f", that are{_within(part)}"
    if terms.any:
        text += f", that are{' or'.join(map(_within, terms.any))}"
    if terms.none:
        text += f", that are not{' nor'.join(map(_within, terms.none))}"
    return text


def asked_text(terms: Terms, field: str) -> str:
    """What terms ask in one of their fields, as the plan says it: `over 20 MB`. Empty where that is a block."""
    for part in terms.walk():
        asked = _asked(part).get(field)
        if asked:
            return asked
    return ""


def _asked(terms: Terms) -> dict[str, str]:
    found = {
        "service": " or ".join(terms.service_words),
        "protocol": protocol_text(terms.protocols or ()),
        "port": ports_text(terms.ports or ()),
        "local-port": ports_text(terms.local_ports or ()),
        "remote-port": ports_text(terms.remote_ports or ()),
        "uplink": " or ".join(terms.uplinks or ()),
        "version": str(terms.version or ""),
        "dscp": dscp_text(terms.dscps or ()),
        "packet": kinds_text(terms.kinds),
        "when": terms.when or "",
    }
    found |= {
        key: who(party)
        for key, party in (("local", terms.local), ("network", terms.networks), ("remote", terms.remote))
        if party is not None
    }
    if terms.moved is not None:
        found["moved"] = f"{'over' if terms.moved[1] else 'under'} {format_size(terms.moved[0])}"
    if terms.rate is not None:
        found["rate"] = f"over {format_rate(terms.rate[0])} for {format_time(terms.rate[1])}"
    return found


def _within(terms: Terms) -> str:
    kinds = f" {kinds_text(terms.kinds)} packets" if terms.kinds else ""
    protocols = f" {protocol_text(terms.protocols)}" if terms.protocols else ""
    return f"{kinds}{protocols}{terms_text(terms)}" or " anything"


def destination(rule: Rule) -> str:
    """`calls`, or `calls in tree main and voice in tree spare`."""
    paths = set(rule.queues.values())
    if not paths:
        return "the default"
    if len(paths) == 1:
        return paths.pop()
    return " and ".join(f"{path} in tree {tree}" for tree, path in rule.queues.items())


def uplink_sentence(uplink: Uplink) -> str:
    """What a line has, and what of it is used."""
    usable = " and ".join(f"{format_rate(uplink.usable(direction))} {direction}" for direction in DIRECTIONS)
    return (
        f"{uplink.interface}: measured {format_rate(uplink.down)} down and {format_rate(uplink.up)} up; "
        f"{format_share(uplink.headroom)} left free, so {usable} to use. "
        f"Framing {uplink.framed.words}: a packet of 1500 bytes takes {uplink.framing.cost(1500)} on the line, "
        f"one of 100 takes {uplink.framing.cost(100)}; full packets of TCP leave "
        f"{' and '.join(format_rate_both(uplink.goodput(uplink.usable(d))) + f' {d}' for d in DIRECTIONS)} for data."
    )


def network_sentence(network: Network) -> str:
    """Where a network is."""
    return f"{network.interface}: {', '.join(network.subnets)}."


def default_sentence(plan: Plan) -> str:
    """Where what no rule claims goes."""
    defaults = {tree.name: tree.default.path for tree in plan.trees.values()}
    if len(set(defaults.values())) == 1:
        return f"Whatever no rule claims goes to {next(iter(defaults.values()))}."
    where = " and ".join(f"{path} in tree {name}" for name, path in defaults.items())
    return f"Whatever no rule claims goes to {where}."
