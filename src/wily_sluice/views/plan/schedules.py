"""Schedules as strips of a week, with open windows and gaps; and the schedules that are open at a time."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from wily_sluice.plan.model import Plan
from wily_sluice.plan.schedules.schedule import DAYS, Schedule, overlaps, spans

SLOTS = 48  # of half an hour, a day
HALVES = {(True, True): "█", (True, False): "▌", (False, True): "▐", (False, False): "·"}


def week_of(moment: datetime) -> list[datetime]:
    """The eight midnights, in the site's time zone, that bound the days of a moment's week."""
    monday = (moment - timedelta(days=moment.weekday())).date()
    return [datetime(*(monday + timedelta(days=day)).timetuple()[:3], tzinfo=moment.tzinfo) for day in range(8)]


def _strip(held: list[tuple[datetime, datetime]], begin: datetime) -> str:
    """A day in half hours of local time; each character shows whether the schedule holds in both its quarters."""
    cells = []
    for slot in range(SLOTS):
        halves = []
        for quarter in (0, 15):
            wall = begin + timedelta(minutes=30 * slot + quarter)  # on the wall: the zone follows by itself
            instant = wall.astimezone(UTC)
            halves.append(any(since.astimezone(UTC) <= instant < until.astimezone(UTC) for since, until in held))
        cells.append(HALVES[halves[0], halves[1]])
    return "".join(cells)


def schedule_table(schedule: Schedule, moment: datetime) -> Table:
    """The week of a moment, a row a day."""
    midnights = week_of(moment)
    held = list(spans(schedule, midnights[0], midnights[-1]))
    table = Table(title=schedule.name, title_justify="left", title_style="bold", box=None, padding=(0, 1, 0, 0))
    table.add_column("", no_wrap=True)
    table.add_column("".join(f"{hour:<6}" for hour in ("0", "3", "6", "9", "12", "15", "18", "21")), no_wrap=True)
    table.add_column("applies", no_wrap=True)
    for number, begin in enumerate(midnights[:-1]):
        today = [(a, b) for a, b in held if a < midnights[number + 1] and b > begin]
        words = ", ".join(
            f"{max(a, begin):%H:%M}-{'24:00' if b >= midnights[number + 1] else f'{b:%H:%M}'}" for a, b in today
        )
        style = "bold" if begin.date() == moment.date() else ""
        label = Text(f"{DAYS[number].capitalize()} {begin.day:>2} {begin:%b}", style)
        table.add_row(label, Text(_strip(held, begin), "cyan"), Text(words or "–", style))
    return table


def _moment_words(moment: datetime) -> str:
    return f"{DAYS[moment.weekday()].capitalize()} {moment:%Y-%m-%d %H:%M} {moment:%Z}"


def gap_sentence(schedule: Schedule, moment: datetime) -> str:
    """The longest gap of the week, and windows that overlap."""
    midnights = week_of(moment)
    held = list(spans(schedule, midnights[0], midnights[-1] + timedelta(days=7)))
    gaps = [(a[1], b[0]) for a, b in pairwise(held) if a[1] <= midnights[-1]]
    if not held or held[0][0] >= midnights[-1]:
        text = "Does not apply this week."
    elif held[0] == (midnights[0], midnights[-1] + timedelta(days=7)):
        text = "Applies all week."
    elif not gaps:
        text = f"Applies continuously from {_short(held[0][0])}."
    else:
        begin, end = max(gaps, key=lambda gap: gap[1].astimezone(UTC) - gap[0].astimezone(UTC))
        hours = (end.astimezone(UTC) - begin.astimezone(UTC)).total_seconds() / 3600
        count = "1 gap" if len(gaps) == 1 else f"{len(gaps)} gaps, the longest"
        text = f"{count} of {hours:g} hours, {_short(begin)} to {_short(end)}."
    twice = overlaps(schedule)
    if twice:
        pairs = "; ".join(f"“{a}” and “{b}”" for a, b in twice)
        text += f" These windows overlap: {pairs}."
    return text


def _short(moment: datetime) -> str:
    return f"{DAYS[moment.weekday()].capitalize()} {moment:%H:%M}"


def schedule_parts(plan: Plan, moment: datetime, exact: bool) -> Iterator[RenderableType]:
    """All schedules; with `exact`, also the schedules open at that time."""
    for schedule in plan.schedules.values():
        yield Group(schedule_table(schedule, moment), Text(gap_sentence(schedule, moment), "dim"))
    if exact:
        yield Text("\n".join(at_sentences(plan, moment)))


def at_sentences(plan: Plan, moment: datetime) -> list[str]:
    """What holds at a moment, and which limiters and rules do."""
    lines = [f"At {_moment_words(moment)}:"]
    for schedule in plan.schedules.values():
        lines.append(f"  {schedule.name} {'applies' if schedule.holds(moment) else 'does not apply'}")
    for limiter in plan.limiters:
        if limiter.when is not None and limiter.enabled:
            holds = plan.schedules[limiter.when].holds(moment)
            lines.append(f"  limiter {limiter.name} {'applies' if holds else 'does not apply'}")
    for rule in plan.sorting:
        if rule.terms.when is not None:
            holds = plan.schedules[rule.terms.when].holds(moment)
            lines.append(f"  rule {rule.name} {'may match' if holds else 'matches nothing'}")
    return lines


def schedule_data(plan: Plan, moment: datetime) -> dict[str, Any]:
    """Schedules for JSON: whether each holds, and its spans in the week."""
    midnights = week_of(moment)
    return {
        schedule.name: {
            "at": moment.isoformat(),
            "holds": schedule.holds(moment),
            "week": [[a.isoformat(), b.isoformat()] for a, b in spans(schedule, midnights[0], midnights[-1])],
        }
        for schedule in plan.schedules.values()
    }
