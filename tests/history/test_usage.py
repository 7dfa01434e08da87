from pathlib import Path

import pytest

from wily_sluice.history.counter_store import CounterReader, CounterStore, Resolution
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.usage import resolution_for, usage_of

BEGIN = 1_800_000_000  # on a full hour
SCANS, DESK = (Key("queue", "fibre", "up", name) for name in ("work/scans", "work/desk"))
DESK_DOWN = Key("queue", "fibre", "down", "work/desk")


@pytest.mark.parametrize(
    ("lasted", "resolution"),
    [(20, "second"), (1799, "second"), (1800, "minute"), (86_400, "minute"), (40 * 86_400, "hour")],
)
def test_a_stretch_is_shown_in_at_least_thirty_steps_that_are_kept_for_so_long(
    lasted: int, resolution: Resolution
) -> None:
    assert resolution_for(lasted) == resolution


def test_sums_means_and_the_busiest_step_are_of_what_was_counted(tmp_path: Path) -> None:
    store = CounterStore(tmp_path)
    for second in range(120):
        counts = {SCANS: Counts(bytes=1000, packets=1)}
        if 30 <= second < 60:
            counts |= {DESK: Counts(bytes=500, packets=1, drops=2), DESK_DOWN: Counts(bytes=9500, packets=7)}
        store.add(BEGIN + second, counts)
    store.close()
    usage = usage_of(CounterReader(tmp_path), "queue", BEGIN - 60, BEGIN + 120, "minute")
    assert (usage.begin, usage.steps) == (BEGIN - 60, 3)
    # Whoever used the most comes first, both directions together.
    assert [use.key for use in usage.uses] == [DESK_DOWN, DESK, SCANS]
    down, up, scans = usage.uses
    assert (down.whole.bytes, up.whole.drops, scans.whole.packets) == (285_000, 60, 120)
    assert [use.course for use in usage.uses] == [[0, 285_000, 0], [0, 15_000, 0], [0, 60_000, 60_000]]
    assert usage.busiest(down) == 285_000 * 8 / 60
    assert usage.mean(scans) == 120_000 * 8 / 180
