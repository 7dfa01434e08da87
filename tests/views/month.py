"""A month at Saltmarsh Veterinary as its gate would have counted it: made up, the same each time."""

import math
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.history.stores import LineMeasurement, MeasurementStore
from wily_sluice.outside.files import load
from wily_sluice.plan.file.bundle import bundle_of
from wily_sluice.units import DIRECTIONS, Direction

HOURS = 30 * 24
# Of each queue: Mbit/s in a busy hour down and up, and whether by day.
BUSY: dict[str, tuple[float, float, bool]] = {
    "calls": (2.0, 2.0, True),
    "play": (1.5, 0.8, False),
    "work/scans": (1.0, 9.0, True),
    "work/desk": (40.0, 3.0, True),
    "visitors": (20.0, 2.0, True),
    "backup": (0.2, 8.0, False),
    "rest": (60.0, 4.0, False),
}
HOSTS = {"10.61.0.41": "calls", "10.61.0.12": "work/desk", "10.61.0.70": "work/scans", "10.61.40.20": "rest"}


def loads(at: datetime, draw: Random) -> Iterator[tuple[str, Direction, float]]:
    """Bit/s of each queue in an hour."""
    by_day = max(0.02, math.sin(math.pi * (at.hour - 7) / 12)) if at.weekday() < 5 and 7 <= at.hour <= 19 else 0.02
    by_evening = max(0.05, math.sin(math.pi * (at.hour - 16) / 8)) if at.hour >= 16 else 0.05
    for queue, (down, up, day) in BUSY.items():
        for way, rate in zip(DIRECTIONS, (up, down) if DIRECTIONS[0] == "up" else (down, up), strict=True):
            yield queue, way, rate * 1e6 * (by_day if day else by_evening) * draw.uniform(0.6, 1.3)


def write_month(plan_file: Path, state: Path, end: int) -> None:
    """Count it, hour after hour, and apply two plans meanwhile."""
    draw, plan = Random(61), load(plan_file)
    store = CounterStore(state)
    first = end - end % 3600 - HOURS * 3600
    for hour in range(HOURS):
        at = first + hour * 3600
        counts: dict[Key, Counts] = {}
        for queue, way, rate in loads(datetime.fromtimestamp(at, UTC), draw):
            size = round(rate * 3600 / 8)
            waits = [0] * 40
            waits[draw.randrange(8, 20)] = 100
            own = Counts(size, size // 1200, size // 900_000, 0, framed=size, payload=size, waits=waits)
            counts[Key("queue", "fibre", way, queue)] = own
            counts.setdefault(Key("uplink", "fibre", way, "fibre"), Counts()).then(own)
            for host, where in HOSTS.items():
                if where == queue:
                    counts[Key("host", "", way, host)] = replace(own, beyond=[20_000_000 + draw.randrange(10**7)])
            counts[Key("service", "", way, "web" if queue == "work/desk" else queue)] = own
        counts[Key("limiter", "", "up", "backup-by-day")] = Counts(1_700_000_000, 1_400_000, 5_000)
        store.add(at, counts)
    store.close()
    with closing(MeasurementStore(state)) as measured:
        measured.add(LineMeasurement("fibre", first + 9 * 3600, 181e6, 24.2e6, 9_100_000, 8e7, 31e7, 410.0))
        measured.add(LineMeasurement("fibre", first + 200 * 3600, 131e6, 24.1e6, 9_300_000))
    revisions = RevisionStore(state)
    for day, note in ((9, "more for scans"), (22, "")):
        applied = datetime.fromtimestamp(first, UTC) + timedelta(days=day)
        revisions.record(bundle_of(plan), applied.isoformat().replace("+00:00", "Z"), "orla", note, "kept")
    revisions.close()
