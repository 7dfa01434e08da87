"""Why a row of the live view is as it is, in sentences."""

from typing import Any

from wily_sluice.units import format_rate, format_size, format_time

NEAR = 0.97  # of a rate: counts as reached


def _rate(rate: float) -> str:
    return format_rate(float(f"{rate:.3g}"))


def _waits(data: dict[str, Any]) -> list[str]:
    words = []
    if data["backlog_packets"]:
        packets = f"{data['backlog_packets']} packet{'s wait' if data['backlog_packets'] > 1 else ' waits'}"
        words.append(f"{packets} ({format_size(data['backlog'])}).")
    delay = data["delay"]
    if delay["p99"]:
        half, longest = (format_time(round(float(f"{delay[part]:.2g}"))) for part in ("p50", "p99"))
        words.append(f"Half of its packets waited less than {half}, 99% less than {longest}.")
    trips = data.get("round_trip", {})
    places = {"beyond": "beyond the line", "inside": "inside the house"}
    told = [f"{format_time(trips[side])} {place}" for side, place in places.items() if trips.get(side)]
    if told:
        words.append(f"Round trips take {' and '.join(told)}.")
    if data["drops"] or data["marks"]:
        parts = [f"{data[what]} {word}" for what, word in (("drops", "dropped"), ("marks", "marked")) if data[what]]
        words.append(f"{' and '.join(parts)} in this tick, so that senders slow down.")
    return words


def explain_queue(key: tuple[str, ...], data: dict[str, Any], tick: dict[str, Any]) -> list[str]:
    """A queue, or an uplink in one direction: what holds it, or that nothing does."""
    _, uplink, direction, *path = key
    rate = data["line_rate"]
    if not path:
        usable = data["usable"]
        if rate >= NEAR * usable:
            sentences = [f"The line is full: {_rate(rate)} of {_rate(usable)} usable."]
        else:
            sentences = [f"The line has room: {_rate(rate)} of {_rate(usable)} used."]
        return [f"{uplink} {direction}.", *sentences, *_waits(data)]
    whole = tick["uplinks"][uplink][direction]
    full = whole["line_rate"] >= NEAR * whole["usable"]
    sentences = [f"{path[0]} on {uplink}, {direction}."]
    if not rate and not data["backlog_packets"]:
        sentences.append("It is idle, so others can use its guarantee.")
    elif rate >= NEAR * data["cap"]:
        sentences.append(f"Its cap limits it: {_rate(rate)} of at most {_rate(data['cap'])}.")
    elif data["guarantee"] and rate > data["guarantee"]:
        sentences.append(f"It gets its guarantee of {_rate(data['guarantee'])}, and more that others leave.")
    elif full and data["backlog_packets"]:
        part = (
            f"It is below its guarantee of {_rate(data['guarantee'])}" if data["guarantee"] else "It has no guarantee"
        )
        sentences.append(f"The line is full. {part} and gets {_rate(rate)} by priority and weight.")
    elif data["backlog_packets"]:
        sentences.append(f"It sends {_rate(rate)}; a parent or a limiter limits it.")
    else:
        sentences.append(f"Nothing limits it: it sends everything that comes, {_rate(rate)}.")
    busy = sorted(
        (
            (other["line_rate"], name)
            for name, other in whole["queues"].items()
            if other["leaf"] and name != path[0] and other["line_rate"]
        ),
        reverse=True,
    )
    if full and busy:
        sentences.append("Busy siblings: " + ", ".join(f"{name} {_rate(own)}" for own, name in busy[:4]) + ".")
    return [*sentences, *_waits(data)]


def explain_host(key: tuple[str, ...], data: dict[str, Any], tick: dict[str, Any]) -> list[str]:
    """A host: its rate, and its fraction of the total."""
    _, name, direction = key
    whole = sum(uplink[direction]["rate"] for uplink in tick["uplinks"].values())
    sentences = [f"Host {data.get('label', name)}, {direction}."]
    if whole:
        sentences.append(f"{_rate(data['rate'])}, {data['rate'] / whole:.0%} of the traffic {direction} now.")
    return [*sentences, *_waits(data)]


def explain_limiter(key: tuple[str, ...], data: dict[str, Any], _told: dict[str, Any]) -> list[str]:
    """A limiter: whether it holds packets back."""
    _page, name, direction = key
    sentences = [f"Limiter {name}, {direction}."]
    if data.get("cap"):
        sentences.append(f"It caps {data.get('per', 'all matching traffic together')} at {_rate(data['cap'])}.")
    if data.get("idle"):
        sentences.append(f"It does not apply now: {data['idle']}.")
    elif data["backlog_packets"]:
        sentences.append("It is holding back packets now.")
    elif data["drops"]:
        sentences.append("It drops excess packets.")
    else:
        sentences.append("Nobody exceeds it now.")
    return [*sentences, *_waits(data)]


def explain_other(key: tuple[str, ...], data: dict[str, Any], _: dict[str, Any]) -> list[str]:
    """A rule, a service or a conversation."""
    page, name, direction = key
    sentences = [
        f"{page.removesuffix('s').capitalize()} {data.get('label', name)}, {direction}: {_rate(data['rate'])}."
    ]
    if data.get("about"):
        sentences.append(data["about"])
    return [*sentences, *_waits(data)]
