import pytest

from wily_sluice.control.desk.counts import add_up
from wily_sluice.control.desk.snapshot import Snapshot, snapshot_data
from wily_sluice.engine.tally import STEPS, step_of
from wily_sluice.gate.counters import CounterRow
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND
from wily_sluice.views.live.watch import PAGES, Watch

HANDSET, PHONE = bytes([10, 61, 0, 41]), bytes([10, 61, 30, 117])


def told(plan: Plan, megabits: float = 30.0, unshaped: int = 0) -> dict[str, object]:
    """A second in which visitors get so much, and wait 40 ms; and a call that nothing holds."""
    waits = [0] * STEPS
    waits[step_of(40 * MILLISECOND)] = 400
    size = round(megabits * 1e6 / 8)
    busy = CounterRow(
        "queue", "fibre", "down", "visitors", size, 400, 7, 0, 90_000, 60, SECOND, tuple(waits), size, size
    )
    calls = CounterRow("queue", "fibre", "up", "calls", 12_500, 50, 0, 0, 0, 0, 0, (), 12_500, 9_000)
    rows = [
        busy,
        calls,
        busy._replace(kind="limiter", uplink="", name="visitor-each"),
        busy._replace(kind="flow", name=(PHONE, "Visitors", "")),
        calls._replace(kind="flow", name=(HANDSET, "Handsets", "calls")),
    ]
    summary = {
        "revision": 3,
        "trial": {"revision": 3, "left": 75.0},
        "missing": ["wan1"],
        "unshaped": unshaped,
        "strained": False,
    }
    return summary | snapshot_data(plan, Snapshot(1_795_000_000.0, SECOND, add_up(rows)))


def words(watch: Watch, width: int) -> str:
    """All that is on the screen, with single spaces."""
    return " ".join(" ".join(line.plain for line in watch.lines(width, 40)).split())


@pytest.mark.parametrize(("width", "height"), [(80, 24), (157, 52), (40, 8)])
def test_every_page_fits_the_screen(demo_plan: Plan, width: int, height: int) -> None:
    watch = Watch()
    for _ in range(3):
        watch.feed(told(demo_plan))
    for page in PAGES:
        watch.press(str(PAGES.index(page) + 1))
        for explaining in (False, True):
            watch.explaining = explaining
            lines = watch.lines(width, height)
            assert len(lines) <= height
            assert all(line.cell_len <= width for line in lines)
            assert "Saltmarsh" in lines[0].plain


def test_packets_that_flow_past_while_somebody_watches_are_told(demo_plan: Plan) -> None:
    watch = Watch()
    watch.feed(told(demo_plan, unshaped=7))
    assert "too slow" not in watch.lines(157, 40)[0].plain
    watch.feed(told(demo_plan, unshaped=1207))
    assert "too slow: 1,200 packets unshaped" in watch.lines(157, 40)[0].plain


def test_what_is_seen_is_what_was_told(demo_plan: Plan) -> None:
    watch = Watch()
    watch.feed(told(demo_plan))
    lines = [line.plain for line in watch.lines(120, 40)]
    assert "on trial, 1 min 15 s left" in lines[0] and "wan1 is missing" in lines[0]
    visitors = next(line for line in lines if line.lstrip().startswith("visitors"))
    # 30 of a guarantee of 3.312 and a cap of 33.12 Mbit/s; 40 ms stands in the step that ends with 5 << 23 ns
    assert visitors.split()[1:] == ["30", "Mbit/s", "906%", "91%", "90", "kB", "42", "ms", "7", "█"]
    assert not any("mobile" in line and "Mbit/s" in line for line in lines)
    watch.press("2")
    hosts = [line.plain for line in watch.lines(120, 40)][3:5]
    assert [host.split()[1] for host in hosts] == ["10.61.30.117", "10.61.0.41"]
    watch.press("s")  # by name
    assert watch.lines(120, 40)[3].plain.split()[1] == "10.61.0.41"


def test_keys_freeze_filter_and_explain(demo_plan: Plan) -> None:
    watch = Watch()
    watch.feed(told(demo_plan))
    watch.lines(100, 40)
    for key in ("down", "down", "down", "down", "down", "e"):
        watch.press(key)
    assert watch.selected == ("queues", "fibre", "down", "visitors")
    said = words(watch, 100)
    assert "more that others leave" in said and "60 packets wait" in said and "7 dropped" in said
    watch.press(" ")
    watch.feed(told(demo_plan, 33.0))
    assert "frozen" in watch.lines(100, 40)[0].plain
    assert any("30 Mbit/s" in line.plain for line in watch.lines(100, 40))
    watch.press(" ")
    said = words(watch, 100)
    assert "Its cap limits it: 33 Mbit/s of at most 33.1 Mbit/s" in said
    for key in "/30.":
        watch.press(key)
    watch.press("enter")
    watch.press("2")
    assert [row.name for row in watch.rows()] == ["↓ 10.61.30.117"]
    watch.press("escape")
    assert len(watch.rows()) == 2
    watch.press("q")
    assert watch.over


def test_a_limiter_says_whom_it_caps(demo_plan: Plan) -> None:
    watch = Watch(page="limiters", explaining=True)
    watch.feed(told(demo_plan))
    said = words(watch, 120)
    assert "It caps each host at 6 Mbit/s. It is limiting somebody now." in said
