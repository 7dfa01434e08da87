import json
import random
import sqlite3
import tempfile
import zlib
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.engine.tally import STEPS, step_end, step_of
from wily_sluice.history import counter_store
from wily_sluice.history.counter_store import CounterReader, CounterStore
from wily_sluice.history.counts import Counts, Key
from wily_sluice.units import MILLISECOND

BEGIN = 1_800_000_000  # on a full hour
CALLS = Key("queue", "fibre", "up", "calls")


def counted(size: int, wait: int = 0) -> Counts:
    counts = Counts(bytes=size, packets=10, backlog=size // 10, waiting=1, busy=5 * MILLISECOND)
    if wait:
        counts.waits = [0] * STEPS
        counts.waits[step_of(wait)] = 10
    return counts


def test_seconds_are_added_up_to_minutes_and_hours_and_outlive_the_store(tmp_path: Path) -> None:
    store = CounterStore(tmp_path)
    for second in range(130):
        for part in (300 + second, 700):  # seconds may come in parts
            store.add(BEGIN + second, {CALLS: counted(part, 3 * MILLISECOND)})
    store.close()
    store = CounterStore(tmp_path)
    seconds = list(store.read("second", BEGIN, BEGIN + 130))
    assert [sample[CALLS].bytes for _, sample in seconds] == [1000 + second for second in range(130)]
    minutes = dict(store.read("minute", BEGIN, BEGIN + 3600))
    assert list(minutes) == [BEGIN, BEGIN + 60, BEGIN + 120]
    first = minutes[BEGIN][CALLS]
    assert (first.bytes, first.packets, first.busy) == (sum(range(1000, 1060)), 1200, 600 * MILLISECOND)
    assert first.backlog == 70  # as it was at the end
    assert 3 * MILLISECOND < first.p50 == first.p99 <= 1.25 * 3 * MILLISECOND
    (hour,) = dict(store.read("hour", BEGIN, BEGIN + 3600)).values()
    assert hour[CALLS].bytes == sum(range(1000, 1130))
    store.close()


@given(st.lists(st.floats(0.05, 6.0), min_size=1, max_size=20))
def test_what_is_counted_late_is_of_the_seconds_in_which_it_moved(lengths: list[float]) -> None:
    """A line of 9 MB a second, looked at whenever there is time: no second has more, and nothing is lost."""
    with tempfile.TemporaryDirectory() as folder, closing(CounterStore(Path(folder))) as store:
        until = BEGIN + 0.25
        for length in lengths:
            until += length
            own = Counts(bytes=round(9_000_000 * length), packets=round(6000 * length), backlog=7, waiting=1)
            own.waits = [0] * STEPS
            own.waits[step_of(3 * MILLISECOND)] = own.packets
            store.add(until, {CALLS: own}, length)
        store._finish()
        store._write(int(until))
        seconds = {at: sample[CALLS] for at, sample in store.read("second", BEGIN, BEGIN + 200)}
    assert sum(one.bytes for one in seconds.values()) == sum(round(9_000_000 * length) for length in lengths)
    whole = [one for at, one in seconds.items() if BEGIN < at < int(until)]
    assert all(one.bytes == pytest.approx(9_000_000, rel=0.001) for one in whole)
    assert max(one.bytes for one in seconds.values()) <= 9_009_000
    assert seconds[int(until)].backlog == 7


def test_a_killing_costs_a_few_seconds_and_a_clock_that_steps_back_nothing(tmp_path: Path) -> None:
    killed = CounterStore(tmp_path)
    for second in range(90):
        killed.add(BEGIN + second, {CALLS: counted(1000)})
    del killed  # it is not closed
    store = CounterStore(tmp_path)
    (minute_of_killing,) = dict(store.read("minute", BEGIN + 60, BEGIN + 120)).values()
    assert 25_000 < minute_of_killing[CALLS].bytes <= 30_000  # of 30 seconds, all but what waited to be written
    # A second run, in which the clock says the same ten seconds twice.
    for second in (*range(120, 140), *range(130, 140)):
        store.add(BEGIN + second, {CALLS: counted(1000)})
    store.close()
    store = CounterStore(tmp_path)
    minutes = {at: sample[CALLS] for at, sample in store.read("minute", BEGIN, BEGIN + 3600)}
    assert (minutes[BEGIN].bytes, minutes[BEGIN + 120].bytes) == (60_000, 30_000)
    (hour,) = dict(store.read("hour", BEGIN, BEGIN + 3600)).values()
    assert (hour[CALLS].bytes, hour[CALLS].backlog) == (60_000 + 30_000, 100)


def test_what_is_older_than_its_resolution_is_kept_for_goes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(counter_store.KEPT, "second", 600)
    monkeypatch.setitem(counter_store.KEPT, "minute", 3600)
    store = CounterStore(tmp_path)
    for second in range(2 * 3600):
        store.add(BEGIN + second, {CALLS: counted(1)})
    store.close()
    database = sqlite3.connect(tmp_path / "counters.sqlite")
    spans = dict(database.execute("select resolution, max(begin) - min(begin) from spans group by 1"))
    assert (spans["second"] // 60, spans["minute"] // 60, spans["hour"] // 3600) == (10, 60, 1)


@pytest.mark.parametrize("step", [11 * 365 * 86_400, -11 * 365 * 86_400])
def test_a_clock_that_is_set_deletes_nothing(tmp_path: Path, step: int) -> None:
    with closing(CounterStore(tmp_path)) as store:
        for second in range(120):
            store.add(BEGIN + second, {CALLS: counted(1000)})
        for second in range(120, 300):
            store.add(BEGIN + step + second, {CALLS: counted(1000)})
        for second in range(300, 420):
            store.add(BEGIN + second, {CALLS: counted(1000)})
    with closing(CounterStore(tmp_path)) as store:
        kept = [sample[CALLS].bytes for _, sample in store.read("minute", BEGIN, BEGIN + 420)]
    assert sum(kept) == 240_000


def test_a_full_store_lets_the_oldest_of_the_finest_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(counter_store, "MOST_BYTES", 400_000)
    drawn = random.Random(1)
    store = CounterStore(tmp_path)
    for second in range(1500):
        hosts = {Key("host", "", "up", f"10.0.0.{n}"): counted(drawn.randrange(10**6)) for n in range(40)}
        store.add(BEGIN + second, hosts)
    assert (tmp_path / "counters.sqlite").stat().st_size <= 400_000
    kept = [at for at, _ in store.read("second", BEGIN, BEGIN + 1500)]
    assert kept[-1] > BEGIN + 1490 and kept[0] > BEGIN + 100
    assert len(list(store.read("minute", BEGIN, BEGIN + 1500))) >= 24


def test_a_histogram_step_is_told_from_its_end() -> None:
    for step in range(STEPS - 1):
        assert step_of(step_end(step) - 1) == step
        assert step_of(step_end(step)) == step + 1


@pytest.mark.slow
def test_a_day_takes_less_than_20_megabytes(tmp_path: Path) -> None:
    drawn = random.Random(1)
    keys = [Key("queue", "fibre", way, f"work/queue {n}") for way in ("up", "down") for n in range(12)]
    keys += [Key("host", "", way, f"10.61.{n}.{host}") for way in ("up", "down") for n in (0, 30) for host in range(15)]
    keys += [Key(of, "", way, f"{of} {n}") for of in ("rule", "service", "limiter") for way in ("up", "down")
             for n in range(9)]  # fmt: skip
    store = CounterStore(tmp_path)
    sizes = []
    for second in range(2 * 3600):  # from the second hour on, seconds go as they come
        counts = {}
        for key in drawn.sample(keys, len(keys) // 2):
            packets = drawn.randint(1, 2000)
            size = packets * drawn.randint(60, 1500)
            counts[key] = Counts(
                size, packets, drawn.randint(0, 9), 0, drawn.randint(0, 90_000), 9, drawn.getrandbits(29)
            )
            if key.subject == "queue":
                counts[key].framed, counts[key].payload = size + 38 * packets, size - 52 * packets
            counts[key].waits = [0] * STEPS
            counts[key].waits[drawn.randrange(60)] = packets
            if key.subject in ("host", "service"):
                counts[key].beyond = [drawn.randrange(10**7, 10**8)]
        store.add(BEGIN + second, counts)
        if (second + 1) % 3600 == 0:
            sizes.append(sum(file.stat().st_size for file in tmp_path.iterdir()))
    store.close()
    assert sizes[1] + 22 * (sizes[1] - sizes[0]) < 20_000_000, sizes


def test_round_trips_are_kept_and_rows_without_them_can_be_read(tmp_path: Path) -> None:
    host = Key("host", "", "up", "10.7.0.100")
    store = CounterStore(tmp_path)
    store.add(60, {host: Counts(bytes=1, packets=10, beyond=[12_345_678, 99_000_000, 98_000_000], inside=[900_000])})
    store.add(61, {host: Counts(bytes=1, packets=30, beyond=[32_345_678])})
    store.close()
    with closing(sqlite3.connect(tmp_path / "counters.sqlite")) as database, database:
        old = [["\t".join(host)], [[7]] * 9 + [[-1]] * 3]
        row = ("second", 62, 1, zlib.compress(json.dumps(old).encode()))
        database.execute("insert into spans values (?, ?, ?, ?)", row)
    with closing(CounterReader(tmp_path)) as reader:
        seconds = {at: found[host] for at, found in reader.read("second", 0, 100)}
        assert [(one.beyond, one.inside) for one in seconds.values()] == [
            (12_345_000, 900_000),
            (32_345_000, 0),
            (0, 0),
        ]
        whole = seconds[60].then(seconds[61]).then(seconds[62])
        assert (whole.beyond, whole.inside) == ((10 * 12_345_000 + 30 * 32_345_000) // 40, 900_000)
