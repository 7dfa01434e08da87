"""A plan's parts as plain sentences."""

from collections.abc import Iterator
from typing import Any

from wily_sluice.plan.fields.registry import IN_A_SENTENCE, asked
from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.model import Network, Plan, Route, Rule, Tunnel, Uplink
from wily_sluice.plan.terms import TRANSPORTS, Grant, Party, Terms
from wily_sluice.units import (
    DIRECTIONS,
    SECOND,
    Direction,
    Nanoseconds,
    format_rate,
    format_rate_both,
    format_share,
    format_time,
)

BEFORE = tuple(field for field in IN_A_SENTENCE if field.before)
BEHIND = tuple(field for field in IN_A_SENTENCE if not field.before)


def who(party: Party) -> str:
    """`handsets, or 10.61.0.7`."""
    return " or ".join(party.words)


def _conversations(terms: Terms) -> str:
    """Which conversations terms ask for."""
    if terms.anyone:
        return "Every conversation"
    before = (f"{field.phrase(value)}{field.before}" for field, value in asked(terms, BEFORE))
    return f"{''.join(before)}conversations{terms_text(terms)}"


def route_sentence(route: Route) -> str:
    """The conversations of a route, and their uplink."""
    verb = "goes" if route.terms.anyone else "go"
    sentence = f"{_conversations(route.terms)} {verb} over {route_words(route)}."
    return sentence[0].upper() + sentence[1:] + ("" if route.enabled else " Switched off.")


def route_words(route: Route) -> str:
    """`fibre (3) and mobile (1), else spare`."""
    several = len(route.shares) > 1
    words = " and ".join(f"{name} ({weight:g})" if several else name for name, weight in route.shares)
    if route.budget is not None:
        words += f" while under {format_share(route.budget.share)} of {route.budget.limiter}’s quota is used"
    return words + (f", else {route.otherwise}" if route.otherwise is not None else "")


def grant_sentence(grant: Grant) -> str:
    """Who may have which ports opened."""
    spans: dict[tuple[tuple[int, int], ...], list[str]] = {}
    for protocol, ranges in grant.ports.items():
        spans.setdefault(ranges, []).append(TRANSPORTS[protocol].upper())
    ports = [
        f"{' and '.join(names)} {' and '.join(_span(*span) for span in ranges)}" for ranges, names in spans.items()
    ]
    service = f", for {grant.service}" if grant.service else ""
    off = "" if grant.enabled else " Switched off."
    return (
        f"{' and '.join(grant.local.words)} may have {grant.count} of {' and '.join(ports)} opened each on "
        f"{grant.uplink}{service}, for {_lasting(grant.lifetime)} at a time.{off}"
    )


def _lasting(span: Nanoseconds) -> str:
    """`2 h`, `90 s`."""
    for factor, unit in ((3600, "h"), (60, "min")):
        if not span % (factor * SECOND):
            return f"{span // (factor * SECOND)} {unit}"
    return format_time(span)


def _span(first: int, last: int) -> str:
    return str(first) if first == last else f"{first}–{last}"


def tunnel_sentence(tunnel: Tunnel) -> str:
    """A tunnel's uplink and cost."""
    size = tunnel.wrapping.outside(1000)
    far = f" to {' or '.join(tunnel.remotes)}" if tunnel.remotes else ""
    return f"{tunnel.interface}: {tunnel.words} over {tunnel.uplink}{far}; a packet of 1000 bytes becomes {size}."


def rule_sentence(rule: Rule) -> str:
    """The conversations of a rule, and their queue."""
    terms = rule.terms
    text = _conversations(terms)
    verb = "goes" if terms.anyone else "go"
    parts = [f"{verb} to {destination(rule)}"] if rule.queues or rule.mark is None else []
    if rule.mark is not None:
        parts.append(f"{'is' if terms.anyone else 'are'} marked {dscp_text((rule.mark,))}")
    sentence = f"{text} {' and '.join(parts)}."
    return sentence[0].upper() + sentence[1:] + ("" if rule.enabled else " Switched off.")


def terms_text(terms: Terms) -> str:
    """The remaining criteria of a rule, apart from those already in the sentence."""
    text = "".join(field.phrase(value) for field, value in asked(terms, BEHIND))
    for part in terms.all:
        either = part.any if part == Terms(any=part.any) else (part,)
        text += f", that are{' or'.join(map(_within, either))}"
    if terms.any:
        text += f", that are{' or'.join(map(_within, terms.any))}"
    if terms.none:
        text += f", that are not{' nor'.join(map(_within, terms.none))}"
    return text


def terms_data(terms: Terms) -> dict[str, Any]:
    """For JSON: each field in the plan's words, and the blocks."""
    data: dict[str, Any] = {field.key: field.text(value) for field, value in asked(terms)}
    blocks = {"any": terms.any, "all": terms.all, "not": terms.none}
    return data | {key: [terms_data(part) for part in parts] for key, parts in blocks.items() if parts}


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
    """An uplink's measured and usable rates."""
    usable = " and ".join(f"{format_rate(uplink.usable(direction))} {direction}" for direction in DIRECTIONS)
    measured = " and ".join(f"{measured_text(uplink, direction)} {direction}" for direction in DIRECTIONS)
    return (
        f"{uplink.interface}: measured {measured}; "
        f"{headroom_text(uplink)} headroom leaves {usable}. "
        f"Framing {uplink.framed.words}: a packet of 1500 bytes takes {uplink.framing.cost(1500)} on the line, "
        f"one of 100 takes {uplink.framing.cost(100)}; TCP goodput with full packets is "
        f"{' and '.join(format_rate_both(uplink.goodput(uplink.usable(d))) + f' {d}' for d in DIRECTIONS)}."
        f"{''.join(_more_of_uplink(uplink))}"
    )


def _more_of_uplink(uplink: Uplink) -> Iterator[str]:
    """What only some have."""
    probing = uplink.probing
    if probing is not None:
        remotes = " or ".join(probing.remotes)
        times = "once" if probing.lost == 1 else f"{probing.lost} times in a row"
        yield f" It is down when there is no answer from {remotes} within {format_time(probing.within)}, {times}."
    if uplink.refuses:
        yield f" It refuses queue{'s' * (len(uplink.refuses) > 1)} {' and '.join(sorted(uplink.refuses))}."


def measured_text(uplink: Uplink, direction: Direction) -> str:
    """`40 Mbit/s`, or `8 Mbit/s to 40 Mbit/s` of a line that varies."""
    lowest = uplink.lowest.of(direction)
    highest = format_rate(uplink.measured(direction))
    return f"{format_rate(lowest)} to {highest}" if lowest is not None else highest


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
    """The default queue."""
    defaults = {tree.name: tree.default.path for tree in plan.trees.values()}
    if len(set(defaults.values())) == 1:
        return f"All other traffic uses queue {next(iter(defaults.values()))}."
    where = " and ".join(f"{path} in tree {name}" for name, path in defaults.items())
    return f"All other traffic uses queue {where}."
