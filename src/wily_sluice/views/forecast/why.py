"""The steps of the split, as sentences and as data."""

from collections.abc import Mapping
from typing import Any

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import Share, usable
from wily_sluice.forecast.why import Step
from wily_sluice.units import Direction, format_rate, format_rate_both

ROUNDING = 4  # bit/s


def _names(shares: tuple[Share, ...]) -> str:
    names = [share.spec.path for share in shares]
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _weights(spec: QueueSpec, peers: tuple[Share, ...]) -> str:
    """`scans 2, play 1, desk 4`: a queue's weight and those of its peers that want something."""
    return ", ".join(f"{one.path} {one.weight:g}" for one in (spec, *(peer.spec for peer in peers if peer.want > 0)))


def step_sentence(step: Step, line: str) -> str:
    """One level of the split; `line` is the name of the root."""
    share, spec = step.share, step.share.spec
    above = step.parent.spec.path or line
    whole = step.parent.rate if step.parent.spec.path else step.parent.spec.cap
    text = f"{spec.path} gets {format_rate_both(share.rate)} of the {format_rate(whole)} of {above}. "
    wasted = step.parent.spec.cap - usable(step.parent.spec)
    if wasted > ROUNDING:
        text += f"{format_rate(wasted)} of {above} can never be used: the caps below it add up to less. "
    if spec.guarantee and share.guaranteed >= spec.guarantee:
        text += f"Its guarantee of {format_rate(spec.guarantee)} comes first. "
    elif spec.guarantee:
        text += f"It uses {format_rate(share.want)} of its guarantee of {format_rate(spec.guarantee)}. "
    else:
        text += "It has no guarantee. "
    if step.curve and step.extra >= 0.5:
        text += f"{above} divides its whole rate by weight, but each child gets at least its guarantee"
        text += f" ({_weights(spec, step.peers)})" if step.peers else ""
        text += f". This adds {format_rate(step.extra)}. "
    elif step.extra >= 0.5:
        text += f"{format_rate(share.offered)} are left at priority {spec.priority}"
        if step.peers:
            text += f", shared with {_names(step.peers)} by weight ({_weights(spec, step.peers)})"
        text += f"; its share is {format_rate(step.extra)}. "
    if step.held == "cap":
        return text + f"Its cap of {format_rate(spec.cap)} limits it."
    if step.held == "demand":
        return text + "That is all it wants."
    if step.held == "others":
        return text + "The others get the rest."
    if step.curve:
        return text + "Its share by weight would be less, so it gets just the guarantee."
    if step.earlier and share.offered < 0.5:
        return text + f"Nothing is left at priority {spec.priority}: {_names(step.earlier)} come first."
    return text + "Nothing more is left."


def why_data(steps: Mapping[tuple[str, Direction], list[Step]]) -> dict[str, Any]:
    """The steps for JSON, by uplink and direction, from the line down; rates in bit/s."""
    data: dict[str, Any] = {}
    for (uplink, direction), way in steps.items():
        data.setdefault(uplink, {})[direction] = [
            {
                "queue": step.share.spec.path,
                "rate": round(step.share.rate),
                "guaranteed": round(step.share.guaranteed),
                "offered": round(step.share.offered),
                "extra": round(step.extra),
                "held": step.held,
            }
            for step in way
        ]
    return data


def worst_sentence(share: Share, direction: str, line: str, strict: str = "") -> str:
    """The rate left for a queue when all others are busy; `strict` is its parent, if that is strict."""
    path = share.spec.path
    worst = f"{line} {direction}: {path} gets least when every other queue takes all it can."
    if share.rate < 0.5:
        remedy = f"Make {strict} weighted and give it a guarantee" if strict else "A guarantee would prevent this"
        return f"{worst} It then gets nothing and can starve. {remedy}."
    return f"{worst} It still gets {format_rate_both(share.rate)}."
