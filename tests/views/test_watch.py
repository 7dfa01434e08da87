import asyncio
import json
import subprocess
import sys
from collections.abc import Callable, Coroutine
from typing import Any

import pytest
from textual.widgets import Static

from wily_sluice.control.api.snapshot import Snapshot, add_up, snapshot_data
from wily_sluice.engine.tally import STEPS, step_of
from wily_sluice.gate.observers import CounterRow
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND
from wily_sluice.views.live.watch.cells import bar, table
from wily_sluice.views.live.watch.screen import Rows, WatchScreen
from wily_sluice.views.live.watch.state import PAGES, Row, Watch

HANDSET, PHONE = bytes([10, 61, 0, 41]), bytes([10, 61, 30, 117])


def told(plan: Plan, megabits: float = 30.0, bypassed: int = 0, at: float = 1_795_000_000.0) -> dict[str, object]:
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
        "down": ["mobile"],
        "bypassed": bypassed,
        "strained": False,
    }
    return summary | snapshot_data(plan, Snapshot(at, SECOND, add_up(rows)))


def text_of(app: WatchScreen, name: str) -> str:
    return str(app.screen_stack[0].query_one(f"#{name}", Static).visual)


def table_of(app: WatchScreen) -> list[str]:
    """The rows as they are on the screen, cells parted by a blank."""
    return [" ".join(line.plain.split()) for line in app.query_one(Rows).lines]


def driven(plan: Plan, size: tuple[int, int], steps: Callable[[WatchScreen, Any], Coroutine[Any, Any, None]]) -> None:
    """Run steps in a terminal of that size, after a tick."""

    async def main() -> None:
        app = WatchScreen(Watch())
        async with app.run_test(size=size) as pilot:
            await pilot.pause()
            app.feed(told(plan))
            await pilot.pause()
            await steps(app, pilot)

    asyncio.run(main())


@pytest.mark.parametrize("size", [(80, 24), (157, 52), (40, 12)])
def test_every_page_fits_the_screen(demo_plan: Plan, size: tuple[int, int]) -> None:
    async def steps(app: WatchScreen, pilot: Any) -> None:
        for number, page in enumerate(PAGES, 1):
            await pilot.press(str(number))
            assert app.state.page == page
            for _ in range(2):
                await pilot.press("e")
                await pilot.pause()
                rows = app.query_one(Rows)
                assert all(line.cell_len <= size[0] for line in rows.lines) and rows.size.height >= 2
                assert "Saltmarsh" in text_of(app, "title")
                assert all(len(line) <= size[0] for line in text_of(app, "lines").split("\n"))

    driven(demo_plan, size, steps)


def test_what_is_seen_is_what_was_told(demo_plan: Plan) -> None:
    async def steps(app: WatchScreen, pilot: Any) -> None:
        assert "on trial, 1 min 15 s left" in text_of(app, "title") and "wan1 is missing" in text_of(app, "title")
        assert "mobile is down" in text_of(app, "title")
        assert "fibre ↓" in text_of(app, "lines") and "0%" in text_of(app, "lines")
        visitors = next(line for line in table_of(app) if line.startswith("visitors"))
        # 30 of a guarantee of 3.312 and a cap of 33.12 Mbit/s, on a line of 165.6; 40 ms stands in the step that ends
        # with 5 << 23 ns
        assert visitors.startswith("visitors 30 Mbit/s ┿━━━")
        assert "90 kB 42 ms 7" in visitors
        assert not any("mobile" in line and "Mbit/s" in line for line in table_of(app))
        await pilot.press("2")
        assert [line.split()[1] for line in table_of(app)] == ["10.61.30.117", "10.61.0.41"]
        await pilot.press("s")  # by name
        assert table_of(app)[0].split()[1] == "10.61.0.41"
        app.feed(told(demo_plan, bypassed=7))
        assert "too slow: 7 packets bypassed the gate" in text_of(app, "title")

    driven(demo_plan, (157, 40), steps)


def test_keys_freeze_filter_and_explain(demo_plan: Plan) -> None:
    async def steps(app: WatchScreen, pilot: Any) -> None:
        rows = [row.key for row in app.state.rows()]
        visitors = ("queues", "fibre", "down", "visitors")
        selected = app.state.selected
        assert selected is not None
        await pilot.press(*["down"] * (rows.index(visitors) - rows.index(selected)), "e")
        assert app.state.selected == visitors
        said = text_of(app, "explained")
        assert "more that others leave" in said and "60 packets wait" in said and "7 dropped" in said
        await pilot.press("space")
        app.feed(told(demo_plan, 33.0))
        await pilot.pause()
        assert "frozen" in text_of(app, "title") and any("30 Mbit/s" in line for line in table_of(app))
        await pilot.press("space")
        assert "Its cap limits it: 33 Mbit/s of at most 33.1 Mbit/s" in text_of(app, "explained")
        await pilot.press("right", "slash", *"30.117", "enter")
        assert table_of(app)[0].startswith("↓ 10.61.30.117") and len(table_of(app)) == 1
        await pilot.press("escape")
        assert len(table_of(app)) == 2
        await pilot.press("question_mark")
        assert len(app.screen_stack) == 2
        app.feed(told(demo_plan))
        await pilot.press("escape", "q")
        assert len(app.screen_stack) == 1

    driven(demo_plan, (100, 40), steps)


def test_the_mouse_turns_pages_selects_rows_and_sorts(demo_plan: Plan) -> None:
    async def steps(app: WatchScreen, pilot: Any) -> None:
        await pilot.click("#hosts")
        assert app.state.page == "hosts"
        await pilot.click(Rows, offset=(5, 2))
        assert app.state.selected == ("hosts", "10.61.0.41", "up")
        app.feed(told(demo_plan, 0.001))  # others have more now; the row that was chosen stays chosen
        for _ in range(12):
            app.feed(told(demo_plan, 0.001))
        await pilot.pause()
        assert app.state.selected == ("hosts", "10.61.0.41", "up")
        assert table_of(app)[app.query_one(Rows).chosen].startswith("↑ 10.61.0.41")
        await pilot.click(Rows, offset=(3, 0))
        assert app.state.sort == "name"

    driven(demo_plan, (120, 40), steps)


def test_a_limiter_says_whom_it_caps(demo_plan: Plan) -> None:
    async def steps(app: WatchScreen, pilot: Any) -> None:
        await pilot.press("5", "enter")
        assert "It caps each host at 6 Mbit/s. It is holding back packets now." in text_of(app, "explained")

    driven(demo_plan, (120, 40), steps)


def test_a_limiter_out_of_its_schedule_says_when_it_applies_again(demo_plan: Plan) -> None:
    """On Wednesday at half past nine in the morning it applies; twelve hours later, not before Thursday at eight."""
    watch = Watch(page="limiters")
    for hours, said in ((0, ""), (12, "does not apply now: from Thu 08:00")):
        watch.feed(told(demo_plan, at=1_795_000_000.0 + hours * 3600))
        rows = [line.plain for line in table(watch, 80) if "backup-by-day" in line.plain]
        assert [said in row for row in rows] == ([True] if said else [])


def test_what_is_wrong_and_whole_addresses_are_read_at_80_columns(demo_plan: Plan) -> None:
    watch = Watch(page="hosts")
    watch.feed(told(demo_plan))
    watch.feed(told(demo_plan, bypassed=1_234_567))
    data = watch.told["hosts"]["10.61.0.41"]
    address = "fd61:aaaa:bbbb:cccc:5054:ffff:fe12:3456"
    watch.told["hosts"] = {address: data}
    head, _, row = (line.plain for line in table(watch, 80))
    assert watch.told is not None
    for words in ("trial 1 min 15 s", "wan1 missing", "mobile down", "too slow", ":"):
        assert words in head
    assert f"↑ {address} " in row and len(head) <= 80 and len(row) <= 80
    watch.told |= {"missing": [], "down": [], "trial": None}
    assert table(watch, 80)[0].plain.startswith(" Saltmarsh Veterinary  too slow: 1,234,567 packets bypassed the gate")


def test_bars_show_a_rate_against_the_line_its_guarantee_and_its_cap() -> None:
    def drawn(rate: float, guarantee: float, cap: float) -> str:
        return bar(Row(("queues",), "", {}, rate, 100, guarantee=guarantee, cap=cap), 20).plain

    assert drawn(0, 0, 0) == "─" * 20
    assert drawn(25, 50, 0) == "━━━━━────┼──────────"
    assert drawn(60, 50, 80) == "━━━━━━━━━┿━━───┤    "
    assert drawn(80, 50, 80) == "━━━━━━━━━┿━━━━━┥    "
    assert drawn(0.1, 0, 0) == "━" + "─" * 19


def test_a_table_without_a_terminal_has_the_same_rows(demo_plan: Plan) -> None:
    watch = Watch(page="hosts")
    assert table(watch, 100) == []
    watch.feed(told(demo_plan))
    lines = [line.plain for line in table(watch, 100)]
    assert "Saltmarsh" in lines[0] and lines[2].split()[:3] == ["↓", "10.61.30.117", "30"]
    assert all(len(line) <= 100 for line in lines)


FIRST = """
import json, sys
sys.modules["textual"] = None  # what draws the screen, which is long in loading where processors are busy
from wily_sluice.cli.running import watch
from wily_sluice.views.live.watch.state import Watch

class Gate:
    def __init__(self, watching): ...
    def ask(self, method, to): ...
    def waiting(self): return [json.load(sys.stdin)]

watch.Client = Gate
try:
    watch._drawn(Watch(), None)
except ImportError:
    print(sorted({"pydantic", "wily_sluice.plan.model", "wily_sluice.plan.file.schema"} & {*sys.modules}))
"""


def test_first_figures_are_shown_before_anything_large_is_loaded(demo_plan: Plan) -> None:
    ended = subprocess.run(
        [sys.executable, "-c", FIRST], input=json.dumps(told(demo_plan)), capture_output=True, text=True, check=True
    )
    *table, loaded = ended.stdout.splitlines()
    assert any("visitors" in line and "30 Mbit/s" in line for line in table)
    assert loaded == "[]"
