"""How the traffic file says that a line's rate changes: steps and ramps by their times, or a recorded series.

down: {0 s: 40 Mbit/s, 10 s: 12 Mbit/s, 20 s: 30 Mbit/s}      steps
down: {0 s: 40 Mbit/s, 15 s: to 8 Mbit/s}                     a ramp that ends there
down: {file: mobile.csv}                                      `seconds,bit_per_second`, a row for each change
"""

import csv
from dataclasses import dataclass
from itertools import pairwise

from wily_sluice.engine.line import RateSchedule, steady
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Rate, parse_rate, parse_time, quoted

RAMP_STEP: Nanoseconds = 50 * MILLISECOND
MOST_POINTS = 100_000


@dataclass(frozen=True, slots=True)
class CourseFile:
    """A recorded series, by the name of its file."""

    name: str


def parse_course(value: object) -> RateSchedule | CourseFile:
    """A rate, or its course over time. ValueError for anything else."""
    if isinstance(value, (RateSchedule, CourseFile)):
        return value
    if not isinstance(value, dict):
        return steady(parse_rate(value))
    if set(value) == {"file"}:
        return CourseFile(str(value["file"]))
    points = [(parse_time(at), str(rate)) for at, rate in value.items()]
    if not points or points[0][0] != 0 or any(later <= at for (at, _), (later, _) in pairwise(points)):
        raise ValueError("times begin at 0 s and grow: write it like {0 s: 40 Mbit/s, 10 s: 12 Mbit/s}")
    course: list[tuple[Nanoseconds, Rate]] = []
    for at, text in points:
        if text.startswith("to ") and course:
            begin, before = course[-1]
            rate = parse_rate(text.removeprefix("to "))
            steps = max(1, (at - begin) // RAMP_STEP)
            for step in range(1, steps):
                part = step / steps
                course.append((begin + round((at - begin) * part), round(before + (rate - before) * part)))
            course.append((at, rate))
        else:
            course.append((at, parse_rate(text)))
    return RateSchedule(tuple(course))


def read_course(text: str) -> RateSchedule:
    """A recorded series: rows of seconds and bit/s, the first at 0. ValueError for anything else."""
    points: list[tuple[Nanoseconds, Rate]] = []
    for number, row in enumerate(csv.reader(text.splitlines()), 1):
        if not row or (number == 1 and not row[0].strip()[:1].isdigit()):
            continue
        try:
            points.append((round(float(row[0]) * SECOND), round(float(row[1]))))
        except (ValueError, IndexError):
            raise ValueError(f"line {number}: {quoted(','.join(row))} is not seconds and bit/s") from None
        if len(points) > MOST_POINTS:
            raise ValueError(f"it has more than {MOST_POINTS} rows")
    return RateSchedule(tuple(points))
