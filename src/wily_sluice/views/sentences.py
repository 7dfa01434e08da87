"""A plan's parts as plain sentences."""

from wily_sluice.plan.model import Network, Party, Plan, Rule, Uplink
from wily_sluice.plan.traffic_words import dscp_text, ports_text, protocol_text
from wily_sluice.units import DIRECTIONS, format_rate, format_rate_both, format_share


def who(party: Party) -> str:
    """`handsets, or 10.61.0.7`."""
    return " or ".join(party.words)


def rule_sentence(rule: Rule) -> str:
    """What a rule sorts, and where to."""
    if rule.is_catch_all:
        return f"Every conversation goes to {destination(rule)}."
    text = f"{protocol_text(rule.protocols)} conversations" if rule.protocols else "Conversations"
    if rule.local:
        text += f" of {who(rule.local)}"
    if rule.remote:
        text += f" with {who(rule.remote)}"
    if rule.ports:
        text += f" on port {ports_text(rule.ports)}"
    if rule.dscps:
        text += f" in which a packet is marked {dscp_text(rule.dscps)}"
    return f"{text} go to {destination(rule)}."


def destination(rule: Rule) -> str:
    """`calls`, or `calls in tree main and voice in tree spare`."""
    paths = set(rule.queues.values())
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
