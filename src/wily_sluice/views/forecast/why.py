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
    """One level of the split; `line` is what the root is called."""
    share, spec = step.share, step.share.spec
    above = step.parent.spec.path or line
    whole = step.parent.rate if step.parent.spec.path else step.parent.spec.cap
    text = f"{spec.path} gets {format_rate_both(share.rate)} of the {format_rate(whole)} of {above}. "
    wasted = step.parent.spec.cap - usable(step.parent.spec)
    if wasted > ROUNDING:
        text += f"{format_rate(wasted)} of {above} can never be used: the caps below it add up to less. "
    if spec.guarantee and share.guaranteed >= spec.guarantee:
        text += f"Its guarantee is {format_rate(spec.guarantee)}, which it has first. "
    elif spec.guarantee:
        text += f"Its guarantee is {format_rate(spec.guarantee)}, and it wants {format_rate(share.want)} of it. "
    else:
        text += "It has no guarantee. "
    if step.curve and step.extra >= 0.5:
        text += f"{above} divides all that it has by weight, and gives nobody less than the guarantee"
        text += f" ({_weights(spec, step.peers)})" if step.peers else ""
        text += f". That makes {format_rate(step.extra)}{' more' if spec.guarantee else ''}. "
    elif step.extra >= 0.5:
        text += f"At priority {spec.priority}, {format_rate(share.offered)} are left to offer"
        if step.peers:
            text += f", which it shares with {_names(step.peers)} by weight ({_weights(spec, step.peers)})"
        text += f"; {format_rate(step.extra)} of it are its. "
    if step.held == "cap":
        return text + f"Its cap of {format_rate(spec.cap)} holds it there."
    if step.held == "demand":
        return text + "That is all that it wants."
    if step.held == "others":
        return text + "The others take the rest."
    if step.curve:
        return text + "By weight its part would be less than that, so the guarantee is all."
    if step.earlier and share.offered < 0.5:
        return text + f"Nothing is left for priority {spec.priority}: {_names(step.earlier)} come before."
    return text + "Nothing more is left to offer."


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
    """What a queue still gets when every other takes all it can; `strict` is its parent, where that is strict."""
    path = share.spec.path
    worst = f"{line} {direction}: the worst for {path} is that every other queue takes all it can."
    if share.rate < 0.5:
        remedy = f"Make {strict} weighted and give it a guarantee" if strict else "A guarantee would keep it alive"
        return f"{worst} Then it gets nothing: it can starve. {remedy}."
    return f"{worst} It still gets {format_rate_both(share.rate)}."
