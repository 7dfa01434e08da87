"""Notices come when something lasts or is serious, once an hour for one cause, and reach whom the plan names."""

import asyncio
import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from aiohttp import web

from tests.conftest import told
from wily_sluice.control.api.notices import BYPASSED, WINDOW, Notice, Notices
from wily_sluice.control.api.snapshot import Snapshot
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.stores import LineMeasurement
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND

GUEST = Key("limiter", "", "down", "guest")
AT = 1_800_000_000.0


def second(number: int, bites: bool) -> Snapshot:
    return Snapshot(AT + number, SECOND, {GUEST: Counts(bytes=250_000, drops=3 if bites else 0)})


def test_a_limiter_that_bites_for_five_minutes_is_told_once_an_hour(small_plan: Callable[..., Plan]) -> None:
    plan, notices = small_plan(), Notices()
    now_and_then = [notices.look(plan, second(n, n % 4 > 0), 0) for n in range(2 * WINDOW)]
    assert not any(now_and_then)  # three of four seconds are not nine of ten
    when = [n for n in range(2 * WINDOW, 2 * WINDOW + 8000) if notices.look(plan, second(n, True), 0)]
    assert len(when) == 3 and when[1] - when[0] == 3600 and when[0] < 3 * WINDOW
    assert notices.kept[-1].words == "guest (2 Mbit/s down) has held traffic back for five minutes"


def test_packets_that_go_past_the_gate_and_a_quota_that_is_nearly_used_are_told(
    small_plan: Callable[..., Plan],
) -> None:
    plan, notices = small_plan(("down: 2 Mbit/s}", "down: 2 Mbit/s, quota: 40 GB per month}")), Notices()
    assert not notices.look(plan, second(0, False), BYPASSED - 1)
    (one,) = notices.look(plan, second(1, False), 5 * BYPASSED)
    assert one.words.startswith("5,000 packets bypassed the gate")
    assert not notices.look(plan, second(2, False), 50 * BYPASSED)  # within the hour
    host = bytes((10, 7, 1, 9))
    assert not notices.quota(plan, "guest", {host: 31_000_000_000}, AT)
    (one,) = notices.quota(plan, "guest", {host: 33_000_000_000}, AT)
    assert one.words == "10.7.1.9 has used 82% of the 40 GB of guest"
    assert not notices.quota(plan, "guest", {host: 34_000_000_000}, AT + 60)
    assert not notices.event("interface.back", {}, AT) and notices.event("chain.repaired", {}, AT)
    for uplink in ("fibre", "mobile", "fibre"):
        notices.event("uplink.down", {"uplink": uplink, "why": "its interface has no link"}, AT)
    assert [one["kind"] for one in notices.data()] == ["bypass", "quota", "bypass", "uplink", "uplink"]
    assert notices.data()[-1]["words"] == "mobile is down, and routes avoid it: its interface has no link"


def test_a_line_that_every_measurement_of_an_hour_finds_slower_is_told(small_plan: Callable[..., Plan]) -> None:
    plan, notices = small_plan(), Notices()
    (uplink,) = plan.uplinks
    slow = LineMeasurement(uplink.name, int(AT), 0.8 * uplink.down, 0.99 * uplink.up)
    assert not notices.line(plan, [slow, replace(slow, down=uplink.down)], AT)
    (one,) = notices.line(plan, [slow, replace(slow, down=0.85 * uplink.down)], AT)
    assert f"{uplink.name} was slower than the plan down" in one.words
    assert not notices.line(plan, [slow], AT + 60)


def test_a_command_and_a_web_address_are_told(small_plan: Callable[..., Plan], tmp_path: Path) -> None:
    script = tmp_path / "tell"
    script.write_text(f'#!/bin/sh\necho "$2" > {tmp_path}/words\ncat > {tmp_path}/data\n')
    script.chmod(0o755)
    heard: list[dict[str, object]] = []

    async def hear(request: web.Request) -> web.Response:
        heard.append(await request.json())
        return web.Response()

    async def run() -> None:
        application = web.Application()
        application.router.add_post("/notices", hear)
        runner = web.AppRunner(application)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 18_864).start()
        for to in (f"{script} --gently", "http://127.0.0.1:18864/notices", "/nowhere/at-all"):
            plan = small_plan(("site: Small\n", f"site: Small\ngate: {{notify: '{to}'}}\n"))
            notices = Notices()
            notices.tell(plan, [Notice(AT, "limiter", "limiter guest down", "it holds back")])
            await asyncio.gather(*notices._tasks)
        await runner.cleanup()

    asyncio.run(run())
    assert (tmp_path / "words").read_text() == "it holds back\n"
    assert json.loads((tmp_path / "data").read_text()) == heard[0]
    assert heard[0] == {"site": "Small", "at": AT, "kind": "limiter", "cause": "limiter guest down",
                        "words": "it holds back"}  # fmt: skip


@pytest.mark.parametrize(("to", "says"), [("tell-me", "its whole path"), ("http:///x", "has no host")])
def test_where_notices_cannot_go_is_found(tmp_path: Path, to: str, says: str) -> None:
    file = tmp_path / "plan.yaml"
    file.write_text(f"site: S\ngate: {{notify: '{to}'}}\n")
    assert any(says in finding.message for finding in told(file))


def test_a_clock_that_is_set_back_silences_no_notice() -> None:
    notices = Notices()
    about = {"uplink": "fibre", "why": "its interface has no link"}
    assert notices.event("uplink.down", about, AT) and not notices.event("uplink.down", about, AT + 60)
    assert notices.event("uplink.down", about, AT - 11 * 365 * 86_400)
