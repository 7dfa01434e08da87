"""The state of a gate, as lines."""

from datetime import UTC, datetime
from typing import Any

from rich.console import Console

from wily_sluice.outside.form import COST as FORM_COST
from wily_sluice.units import format_rate, format_size

WORTH_TELLING = 1000  # packets
MUCH, FEW = 0.005, 1_000_000  # of what crossed an uplink; bytes of which nothing is concluded


def span_words(seconds: float) -> str:
    """`3 min 20 s`, `2 d 4 h`: the two largest units."""
    words: list[str] = []
    left = round(seconds)
    for unit, size in (("d", 86_400), ("h", 3600), ("min", 60), ("s", 1)):
        if left >= size or (unit == "s" and not words):
            words.append(f"{left // size} {unit}")
            left %= size
    return " ".join(words[:2])


def print_status(console: Console, status: dict[str, Any], now: datetime) -> None:
    """What runs, since when; each uplink; a trial, and who holds the plan."""
    since = datetime.fromtimestamp(status["since"], UTC)
    digest = (status["digest"] or "")[:12]
    kept = f"revision {status['revision']}" + (f" ({digest})" if digest else "") if status["revision"] else "a plan"
    console.print(f"[bold]{status['site']}[/]: {kept}, shaping for {span_words((now - since).total_seconds())}")
    for name, uplink in status["uplinks"].items():
        rates = f"{format_rate(uplink['down'])} down and {format_rate(uplink['up'])} up"
        here = "" if uplink["here"] else "  [yellow]interface missing[/]"
        carried = status["condition"]["carried"].get(name)
        routed = f", {carried:,} conversations routed" if carried else ""
        if name in status["condition"]["down"]:
            here = "  [bold yellow]down: routes avoid it[/]"
        why = status["condition"]["why"].get(name, "")
        console.print(f"  {name} on {uplink['interface']}: {rates}{routed}{here}")
        if why:
            console.print(f"    {why}")
        for direction, rate in status["condition"]["found"].get(name, {}).items():
            console.print(f"    {direction}: the line varies, and carries {format_rate(rate)} now")
        _print_crossed(console, status["condition"]["crossed"].get(name, {}))
    for name in status["condition"]["down"]:
        if name not in status["uplinks"]:
            console.print(
                f"  {name}: [bold yellow]down: routes avoid it[/]\n    {status['condition']['why'].get(name, '')}"
            )
    trial = status["trial"]
    if trial is not None:
        left = span_words(trial["left"])
        console.print(f"[yellow]on trial: revision {trial['revision']}, undone in {left}; `sluice keep` keeps it[/]")
    if status["held_by"] is not None:
        held = status["held_by"]
        console.print(f"held by {held['who']} since {held['since']}: {held['what']}")
    if status["bypassed"]:
        told = f"{status['bypassed']:,} packets came faster than the gate takes them and bypassed it"
        console.print(f"[bold yellow]{told}[/]: see `sluice gate cost`")
    if status.get("slow"):
        console.print(f"[yellow]the engine is not compiled: {status['slow']}; {FORM_COST}[/]", highlight=False)
    if status["strained"]:
        told = "shaping uses a whole core, so rates may not be reached"
        console.print(f"[bold yellow]{told}[/]: see `sluice gate cost`")
    condition = status["condition"]
    if condition["crowd"]:
        told = "packets were shaped by host, as conversations opened faster than they can be followed"
        console.print(f"{condition['crowd']:,} {told}")
    if condition["shed"]:
        told = "packets that open conversations were dropped, as too many came at once"
        console.print(f"[yellow]{condition['shed']:,} {told}[/]")
    for name, packets in condition["unseen"].items():
        if packets >= WORTH_TELLING:
            console.print(f"[yellow]{packets:,} packets crossed {name}, which is no uplink of the plan[/]")
    if condition["unreadable"]:
        console.print(f"{condition['unreadable']:,} packets could not be parsed and used the default queue")
    for one in status.get("notices", []):
        at = datetime.fromtimestamp(one["at"], UTC).astimezone()
        console.print(f"[yellow]{at:%a %H:%M}[/] {one['words']}")
    form = "; engine compiled" if status.get("slow") == "" else ""
    console.print(f"state folder {status['state']}; clients connected: {status['clients']}{form}", style="dim")


def _print_crossed(console: Console, ways: dict[str, list[int]]) -> None:
    """Bytes on an uplink since the gate started, by its interface and by the gate."""
    for direction, (line, ours) in ways.items():
        past = max(0.0, 1 - ours / line) if line else 0.0
        words = f"    {direction}: {format_size(line)} crossed the interface, {format_size(ours)} by the gate"
        if past > MUCH and line - ours >= FEW:
            console.print(f"{words}  [bold yellow]{past:.1%} bypassed it[/]")
        else:
            console.print(words, style="dim")
