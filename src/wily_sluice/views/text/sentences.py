"""A plan's parts as plain sentences."""

from wily_sluice.plan.asking import Party, Terms
from wily_sluice.plan.fields.registry import IN_A_SENTENCE, asked
from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.model import Network, Plan, Rule, Uplink
from wily_sluice.units import DIRECTIONS, format_rate, format_rate_both, format_share

BEFORE = tuple(field for field in IN_A_SENTENCE if field.before)
BEHIND = tuple(field for field in IN_A_SENTENCE if not field.before)


def who(party: Party) -> str:
    """`handsets, or 10.61.0.7`."""
    return " or ".join(party.words)


def rule_sentence(rule: Rule) -> str:
    """What a rule sorts, and where to."""
    terms = rule.terms
    if terms.anyone:
        text = "Every conversation"
    else:
        before = (f"{field.phrase(value)}{field.before}" for field, value in asked(terms, BEFORE))
        text = f"{''.join(before)}conversations{terms_text(terms)}"
    verb = "goes" if terms.anyone else "go"
    parts = [f"{verb} to {destination(rule)}"] if rule.queues or rule.mark is None else []
    if rule.mark is not None:
        parts.append(f"{'is' if terms.anyone else 'are'} marked {dscp_text((rule.mark,))}")
    sentence = f"{text} {' and '.join(parts)}."
    return sentence[0].upper() + sentence[1:] + ("" if rule.enabled else " Switched off.")


def terms_text(terms: Terms) -> str:
    """What a conversation must match, apart from what the sentence names before it."""
    text = "".join(field.phrase(value) for field, value in asked(terms, BEHIND))
    for part in terms.all:
        either = part.any if part == Terms(any=part.any) else (part,)
        text += f", that are{' or'.join(map(_within, either))}"
    if terms.any:
        text += f", that are{' or'.join(map(_within, terms.any))}"
    if terms.none:
        text += f", that are not{' nor'.join(map(_within, terms.none))}"
    return text


def asked_text(terms: Terms, key: str) -> str:
    """What terms ask in one of their fields, as the plan says it: `over 20 MB`. Empty where that is a block."""
    return next((f.text(value) for part in terms.walk() for f, value in asked(part) if f.key == key), "")


def _within(terms: Terms) -> str:
    before = (
        f" {field.phrase(value)}{field.before.removesuffix(' of ')}"
        for field, value in asked(terms, BEFORE)
        if field.before
    )
    return f"{''.join(before).rstrip()}{terms_text(terms)}" or " anything"


def destination(rule: Rule) -> str:
    """`calls`, or `calls in tree main and voice in tree spare`."""
    paths = set(rule.queues.values())
    if not paths:
        return "the default queue"
    if len(paths) == 1:
        return f"queue {paths.pop()}"
    return "queue " + " and ".join(f"{path} in tree {tree}" for tree, path in rule.queues.items())


def uplink_sentence(uplink: Uplink) -> str:
    """What a line has, and what of it is used."""
    usable = " and ".join(f"{format_rate(uplink.usable(direction))} {direction}" for direction in DIRECTIONS)
    return (
        f"{uplink.interface}: measured {format_rate(uplink.down)} down and {format_rate(uplink.up)} up; "
        f"{headroom_text(uplink)} headroom leaves {usable}. "
        f"Framing {uplink.framed.words}: a packet of 1500 bytes takes {uplink.framing.cost(1500)} on the line, "
        f"one of 100 takes {uplink.framing.cost(100)}; TCP goodput with full packets is "
        f"{' and '.join(format_rate_both(uplink.goodput(uplink.usable(d))) + f' {d}' for d in DIRECTIONS)}."
    )


def headroom_text(uplink: Uplink) -> str:
    """`8%`, or `15% up and 5% down`."""
    shares = {way: format_share(uplink.headroom.of(way) or 0) for way in DIRECTIONS}
    if len(set(shares.values())) == 1:
        return shares["up"]
    return " and ".join(f"{share} {way}" for way, share in shares.items())


def network_sentence(network: Network) -> str:
    """Where a network is."""
    return f"{network.interface}: {', '.join(network.subnets)}."


def default_sentence(plan: Plan) -> str:
    """Where what no rule claims goes."""
    defaults = {tree.name: tree.default.path for tree in plan.trees.values()}
    if len(set(defaults.values())) == 1:
        return f"Everything else goes to queue {next(iter(defaults.values()))}."
    where = " and ".join(f"{path} in tree {name}" for name, path in defaults.items())
    return f"Everything else goes to queue {where}."
