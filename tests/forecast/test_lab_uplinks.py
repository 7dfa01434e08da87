"""The lab with uplinks that vary, fail, or are chosen by routes and quotas."""

import shutil
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import SMALL_PLAN
from tests.forecast.test_lab import CALL, DATA_FRAME, DOWNLOAD
from wily_sluice import examples
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.outside.lab import compare
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.units import MILLISECOND, SECOND, Direction

VARYING = """\
duration: 30 s
warmup: 5 s
lines: {line: {WAY: {0 s: 40 Mbit/s, 10 s: 12 Mbit/s, 20 s: 30 Mbit/s}, OTHER: 40 Mbit/s, delay: 20 ms}}
applications:
  - {name: First, kind: call, local: 10.7.0.5, remote: 203.0.113.5, port: 5004, at: 5 s, for: 5 s}
  - {name: Second, kind: call, local: 10.7.0.5, remote: 203.0.113.5, port: 5004, at: 13 s, for: 7 s}
  - {name: Third, kind: call, local: 10.7.0.5, remote: 203.0.113.5, port: 5004, at: 23 s, for: 7 s}
  - {name: Load, kind: KIND, flows: 4, local: 10.7.0.6, remote: 203.0.113.6}
"""


@pytest.mark.parametrize("way", ["down", "up"])
def test_a_line_that_varies_is_used_with_little_delay_and_a_fixed_rate_does_worse_in_one_of_both(
    tmp_path: Path, way: Direction
) -> None:
    words = {"WAY": way, "OTHER": "up" if way == "down" else "down", "KIND": "download" if way == "down" else "upload"}
    text = VARYING
    for word, stands in words.items():
        text = text.replace(word, stands)
    (tmp_path / "traffic.yaml").write_text(text)

    def tried(rate: str) -> tuple[float, float]:
        rates = f"{way}: {rate}, {words['OTHER']}: 40 Mbit/s, headroom: 2%, probe: [198.51.100.10]"
        file = tmp_path / "sluice.yaml"
        file.write_text(SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", rates))
        plan = load(file)
        traffic = load_traffic(tmp_path / "traffic.yaml", plan)
        run = Lab(plan, traffic, shaped=True).run()
        waits = [row.measured.p99 - 20 * MILLISECOND for row in run.rows if (row.kind, row.way) == ("call", way)]
        course = traffic.lines["line"].course(way)
        could = (course.bits(30 * SECOND) - course.bits(5 * SECOND)) / 25
        return max(waits) / MILLISECOND, run.carried["line", way] / could

    wait, used = tried("8 to 40 Mbit/s")
    assert wait < 40
    assert used > 0.85
    assert tried("40 Mbit/s")[0] > 300
    assert tried("12 Mbit/s")[1] < 0.55


@pytest.mark.parametrize("way", ["down", "up"])
@pytest.mark.parametrize(
    ("jitter", "least", "most"), [pytest.param(2, 0.88, 30, marks=pytest.mark.slow), (4, 0.85, 40)]
)
def test_a_line_with_jitter_is_used_too(tmp_path: Path, way: str, jitter: int, least: float, most: int) -> None:
    kind = "download" if way == "down" else "upload"
    line = f"{{down: 20 Mbit/s, up: 20 Mbit/s, delay: 20 ms, jitter: {jitter} ms}}"
    load_ = f"{{name: Load, kind: {kind}, flows: 4, local: 10.7.0.6, remote: 203.0.113.6}}"
    text = f"duration: 50 s\nwarmup: 10 s\nlines: {{line: {line}}}\napplications:\n  - {load_}\n{CALL}"
    (tmp_path / "traffic.yaml").write_text(text)
    rates = "down: 8 to 40 Mbit/s, up: 8 to 40 Mbit/s, headroom: 2%, probe: [198.51.100.10]"
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", rates))
    plan = load(file)
    run = Lab(plan, load_traffic(tmp_path / "traffic.yaml", plan), shaped=True).run()
    assert run.carried["line", way] > least * 20_000_000  # type: ignore[index]
    call = next(row.measured for row in run.rows if (row.kind, row.way) == ("call", way))
    assert call.p95 is not None and call.p95 < (20 + most) * MILLISECOND
    assert call.jitter is not None and (call.jitter > MILLISECOND * jitter / 2)


def test_a_line_that_follows_a_recorded_series_is_used_with_little_delay(tmp_path: Path) -> None:
    shutil.copy(examples.folder() / "saltmarsh-mobile.csv", tmp_path / "mobile.csv")
    text = VARYING.replace("{0 s: 40 Mbit/s, 10 s: 12 Mbit/s, 20 s: 30 Mbit/s}", "{file: mobile.csv}")
    text = text.replace("WAY", "down").replace("OTHER", "up").replace("KIND", "download")
    # It drops to half at 3.2 and at 16.8 s, and to two thirds at 22.4 s: from three seconds after each.
    for before, begin, end in ((5, 7, 16), (13, 20, 22), (23, 26, 30)):
        text = text.replace(f"at: {before} s, for: {5 if before == 5 else 7} s", f"at: {begin} s, for: {end - begin} s")
    (tmp_path / "traffic.yaml").write_text(text)
    file = tmp_path / "sluice.yaml"
    rates = "down: 6 to 40 Mbit/s, up: 40 Mbit/s, headroom: 2%, probe: [198.51.100.10]"
    file.write_text(SMALL_PLAN.replace("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", rates))
    plan = load(file)
    traffic = load_traffic(tmp_path / "traffic.yaml", plan)
    run = Lab(plan, traffic, shaped=True).run()
    waits = [row.measured.p99 - 20 * MILLISECOND for row in run.rows if (row.kind, row.way) == ("call", "down")]
    course = traffic.lines["line"].down
    assert max(waits) < 40 * MILLISECOND
    assert run.carried["line", "down"] * 25 > 0.85 * (course.bits(30 * SECOND) - course.bits(5 * SECOND))
    (tmp_path / "mobile.csv").write_text("seconds,rate\n0,fast\n")
    with pytest.raises(FileError, match="line 2: “0,fast” is not seconds"):
        load_traffic(tmp_path / "traffic.yaml", plan)


ROUTED = """\
site: Two lines
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s, headroom: 10%}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s, headroom: 10%, refuses: [backups]}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
schedules: {evening: [18:00-22:00]}
trees: {main: {queues: {calls: {priority: 1, guarantee: 20%}, backups: {weight: 1}, rest: {default: true}}}}
rules:
  - {protocol: udp, port: 5004, queue: calls}
  - {remote: 203.0.113.9, queue: backups}
tunnels: {office: {interface: vpn0, uplink: mobile, wrapping: vxlan, mtu: 1400}}
routes:
  - {when: evening, remote-port: 443, uplink: fibre}
  - {remote: 203.0.113.9, uplink: mobile, else: fibre}
  - {remote: 203.0.113.20, uplink: office}
  - {protocol: udp, uplink: mobile}
  - {remote-port: 443, uplinks: {fibre: 3, mobile: 1}}
"""
ROUTED_APPLICATIONS = (
    CALL,
    "  - {name: Shared, kind: download, flows: 8, local: 10.7.0.9, remote: 203.0.113.6}\n",
    "  - {name: Backup, kind: upload, local: 10.7.0.9, remote: 203.0.113.9}\n",
    "  - {name: Office, kind: upload, local: 10.7.0.9, remote: 203.0.113.20, port: 22}\n",
    "  - {name: Other, kind: ping, local: 10.7.0.9, remote: 203.0.113.6}\n",
    "  - {name: Set, kind: ping, local: 10.7.0.9, remote: 203.0.113.6, uplink: mobile}\n",
)


def test_flows_take_the_lines_that_routes_choose(tmp_path: Path, traffic: Callable[..., Traffic]) -> None:
    (tmp_path / "sluice.yaml").write_text(ROUTED)
    plan = load(tmp_path / "sluice.yaml")
    given = traffic(plan, *ROUTED_APPLICATIONS, head="duration: 12 s\nwarmup: 3 s\n")
    noon = datetime(2027, 3, 25, 12, tzinfo=ZoneInfo("UTC"))
    compared = compare(plan, given, begin=noon)
    rows = {(row.name, row.way, row.uplink): row.measured for row in compared.after}
    assert list(rows) == [
        ("Call", "up", "mobile"),
        ("Call", "down", "mobile"),
        ("Shared", "down", "fibre"),
        ("Shared", "down", "mobile"),
        ("Backup", "up", "fibre"),  # mobile refuses it
        ("Office", "up", "mobile"),
        ("Other", "there and back", "fibre"),  # the first, since no route has it
        ("Set", "there and back", "mobile"),
    ]
    assert [(row.name, row.way, row.uplink) for row in compared.before] == list(rows)
    # The call's frames, and acknowledgements of the two downloads here, leave a little less than all of 9 Mbit/s.
    inside, around = 1400, 50
    most = (9_000_000 - 50 * 218 * 8) * (inside - 52) / ETHERNET.cost(inside + around)
    assert 0.95 * most < rows["Office", "up", "mobile"].goodput < most
    # Beside these are the acknowledgements of the uploads, one for two segments.
    shared = rows["Shared", "down", "fibre"].goodput, rows["Shared", "down", "mobile"].goodput
    assert [rate * DATA_FRAME / SEGMENT for rate in shared] == pytest.approx([17.6e6, 8.6e6], rel=0.01)
    evening = Lab(plan, given, shaped=True, begin=noon.replace(hour=19)).run().rows
    assert {row.uplink for row in evening if row.name == "Shared"} == {"fibre"}


FAILING = """\
site: Two lines
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s, probe: {remotes: [198.51.100.10], within: 500 ms}}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
trees: {main: {queues: {calls: {priority: 1, guarantee: 20%}, rest: {default: true}}}}
rules: [{protocol: udp, port: 5004, queue: calls}]
tunnels: {office: {interface: vpn0, uplink: fibre, wrapping: vxlan}}
limiters: {month: {uplink: mobile, per: together, quota: 9 GB per month, down: 9 Mbit/s, up: 9 Mbit/s}}
routes:
  - {remote-port: 22, uplink: office, else: mobile}
  - {remote-port: 80, uplink: mobile, while: under 50% of quota, else: fibre}
  - {remote: 203.0.113.0/24, uplink: fibre, else: mobile}
"""
STAYS = "  - {name: Stays, kind: ping, local: 10.7.0.9, remote: 203.0.113.6, uplink: fibre}\n"
MOVING = ("Call", "up"), ("Call", "down"), ("Download", "down"), ("Office", "up")
LATE = "  - {name: Late, kind: ping, local: 10.7.0.9, remote: 203.0.113.6, at: %s s}\n"
OFFICE = "  - {name: Office, kind: upload, local: 10.7.0.9, remote: 203.0.113.20, port: 22}\n"


@pytest.mark.parametrize(("silent", "soonest", "latest"), [(False, 0.0, 1.0), (True, 2.4, 3.8)])
def test_when_a_line_fails_flows_go_on_by_another_as_soon_as_the_gate_sees_it(
    tmp_path: Path, traffic: Callable[..., Traffic], silent: bool, soonest: float, latest: float
) -> None:
    (tmp_path / "sluice.yaml").write_text(FAILING)
    plan = load(tmp_path / "sluice.yaml")
    fails = f"fails: {{at: 5 s, for: 8 s, silent: {str(silent).lower()}}}"
    head = f"duration: 30 s\nlines: {{fibre: {{delay: 10 ms, {fails}}}, mobile: {{delay: 30 ms}}}}\n"
    # At 20 s the line has been back for less than ten seconds, at 27 s for longer.
    given = traffic(plan, CALL, DOWNLOAD, OFFICE, STAYS, LATE % 20, LATE.replace("Late", "Later") % 27, head=head)
    compared = compare(plan, given)
    after = {(row.name, row.way, row.uplink): row.measured for row in compared.after}
    before = {(row.name, row.way, row.uplink): row.measured for row in compared.before}
    assert list(before) == list(after)
    assert {key for key, measured in after.items() if measured.sent} == {
        *((*one, uplink) for one in MOVING for uplink in ("fibre", "mobile")),
        ("Stays", "there and back", "fibre"),
        ("Late", "there and back", "mobile"),
        ("Later", "there and back", "fibre"),
    }  # fmt: skip
    silences = {(one.name, one.way): one for one in compared.silences}
    for way in ("up", "down"):
        assert soonest < silences["Call", way].after / SECOND - 0.03 < latest
        assert silences["Call", way].before == pytest.approx(8 * SECOND, abs=0.05 * SECOND)
        lost = after["Call", way, "fibre"]
        assert lost.loss * lost.sent * 0.02 == pytest.approx(silences["Call", way].after / SECOND, abs=0.06)
        assert after["Call", way, "mobile"].loss == 0 and before["Call", way, "mobile"].p50 is None
    # The far end refuses what it does not know, a round trip later, and then begins anew.
    assert silences["Download", "down"].after < silences["Call", "down"].after + 0.2 * SECOND
    assert silences["Stays", "there and back"].after > 8 * SECOND
    moved = after["Download", "down", "fibre"].goodput + after["Download", "down", "mobile"].goodput
    assert moved > 6e6 > before["Download", "down", "fibre"].goodput * 0.4


def test_what_is_used_of_a_quota_leads_flows_elsewhere(tmp_path: Path, traffic: Callable[..., Traffic]) -> None:
    (tmp_path / "sluice.yaml").write_text(FAILING)
    plan = load(tmp_path / "sluice.yaml")
    web = DOWNLOAD.replace("remote:", "port: 80, remote:").replace("flows: 4", "flows: 1")
    again = web.replace("Download", "Again")[:-2] + ", at: 10 s}\n"
    head = "duration: 12 s\nused: {month: %s}\n"
    uplinks = {}
    for used in ("0 B", "4495 MB", "4500 MB"):
        rows = Lab(plan, traffic(plan, web, again, head=head % used), shaped=True).run().rows
        uplinks[used] = {row.name: row.uplink for row in rows}
    assert uplinks == {
        "0 B": {"Download": "mobile", "Again": "mobile"},
        "4495 MB": {"Download": "mobile", "Again": "fibre"},
        "4500 MB": {"Download": "fibre", "Again": "fibre"},
    }
    with pytest.raises(FileError, match="no limiter “year” with a quota for all together → known here: month"):
        traffic(plan, web, head="duration: 12 s\nused: {year: 3 GB}\n")
    with pytest.raises(FileError, match="12 s is not before the end, at 12 s"):
        traffic(plan, web, head="duration: 12 s\nlines: {fibre: {fails: [{at: 1 s, for: 2 s}, {at: 12 s}]}}\n")
