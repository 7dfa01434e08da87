import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import SMALL_PLAN
from tests.forecast.conftest import HEAD
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.flows import Outcome
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.forecast.lab.meter import Meter
from wily_sluice.forecast.lab.notes import HeldBack, Outranked, Unreached
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.outside.lab import compare
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND, transmission_time

DATA_FRAME = ETHERNET.cost(1500)
CALL = "  - {name: Call, kind: call, local: 10.7.0.4, remote: 203.0.113.5, port: 5004}\n"
UPLOAD = "  - {name: Upload, kind: upload, flows: 4, local: 10.7.0.9, remote: 203.0.113.6}\n"
DOWNLOAD = "  - {name: Download, kind: download, flows: 4, local: 10.7.0.9, remote: 203.0.113.6}\n"
GUEST = "  - {name: Guest, kind: download, flows: 2, local: 10.7.1.20, remote: 203.0.113.6}\n"
PROBE = "  - {name: Probe, kind: ping, local: 10.7.0.9, remote: 203.0.113.6}\n"


def by_name(rows: tuple[Outcome, ...]) -> dict[tuple[str, str], Outcome]:
    return {(row.name, row.way): row for row in rows}


def test_on_an_idle_line_a_call_takes_the_delay_and_its_own_time(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan()
    rows = by_name(Lab(plan, traffic(plan, CALL, PROBE), shaped=False).run().rows)
    alone = 10 * MILLISECOND + transmission_time(ETHERNET.cost(200), 10_000_000)
    assert rows["Call", "up"].measured.p50 == alone
    assert rows["Call", "up"].measured.loss == rows["Call", "up"].measured.jitter == 0
    there_and_back = 20 * MILLISECOND + sum(transmission_time(ETHERNET.cost(84), rate) for rate in (10**7, 2 * 10**7))
    assert rows["Probe", "there and back"].measured.p50 == pytest.approx(there_and_back, rel=0.001)


def test_tcp_fills_a_line_and_its_buffer(small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]) -> None:
    plan = small_plan()
    rows = by_name(Lab(plan, traffic(plan, UPLOAD, CALL, head=HEAD.replace("12 s", "40 s")), shaped=False).run().rows)
    # 10 Mbit/s less the call's 87 kbit/s of frames, in data; and the buffer stands between half full and full.
    assert rows["Upload", "up"].measured.goodput == pytest.approx(9.91e6 * SEGMENT / DATA_FRAME, rel=0.01)
    assert 200 * MILLISECOND < (rows["Call", "up"].measured.p50 or 0) < 412 * MILLISECOND


def test_the_plan_keeps_the_call_short_and_the_line_full(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan()
    comparison = compare(plan, traffic(plan, CALL, UPLOAD, DOWNLOAD, GUEST))
    before, after = by_name(comparison.before), by_name(comparison.after)
    for way in ("up", "down"):
        late, soon = before["Call", way].measured.p99, after["Call", way].measured.p99
        assert late is not None
        assert soon is not None
        assert late >= 10 * soon
        if way == "up":
            # Its own time, the packet on the wire, and the one that the line itself is still sending. Down, bursts from
            # the far side meet at the line before the shaper sees them.
            assert soon <= 10 * MILLISECOND + 3 * transmission_time(DATA_FRAME, 9_000_000)
    assert comparison.totals["line"]["down"].after.carried == pytest.approx(18_000_000, rel=0.01)
    assert after["Guest", "down"].measured.goodput == pytest.approx(2_000_000 * SEGMENT / DATA_FRAME, rel=0.02)
    assert after["Call", "up"].queue == "calls"
    assert after["Guest", "down"].queue == "rest"


def test_neither_the_warm_up_nor_what_the_gate_drops_is_counted(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan(("down: 2 Mbit/s", "down: 2 Mbit/s, burst: 2 kB, excess: drop"))
    guests = "  - {name: Guest, kind: download, flows: 8, local: 10.7.1.20, remote: 203.0.113.6}\n"
    comparison = compare(plan, traffic(plan, CALL, guests))
    for rows in (comparison.before, comparison.after):
        call = by_name(rows)["Call", "up"].measured
        assert call.sent == 9 * 50  # of twelve seconds the first three are for warming up
    load = comparison.totals["line"]["down"].after
    call_frames = 50 * ETHERNET.cost(200) * 8
    assert load.carried <= 2_000_000 + call_frames + 2000 * 8
    dropped = by_name(comparison.after)["Guest", "down"].measured
    assert dropped.loss > 0.05


ACKS = ("rest: {default: true}", "rest: {default: true}\n      acks: {guarantee: 20%, priority: 2}")
TO_ACKS = ("rules:\n", "rules:\n  - {name: Acks, packet: acknowledgement, queue: acks}\n")


def test_acknowledgements_in_a_queue_of_their_own_keep_a_download_fast_beside_uploads(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    """Sixteen uploads fill a narrow way up. The acknowledgements of a download share their queue, or have their own."""
    lines = (("down: 20 Mbit/s, up: 10 Mbit/s", "down: 90 Mbit/s, up: 3 Mbit/s"),)
    head = HEAD.replace("down: 20 Mbit/s, up: 10 Mbit/s", "down: 90 Mbit/s, up: 3 Mbit/s")
    upload = UPLOAD.replace("flows: 4", "flows: 16").replace("10.7.0.9", "10.7.0.10")
    together, apart = (
        by_name(Lab(plan, traffic(plan, upload, DOWNLOAD, head=head), shaped=True).run().rows)
        for plan in (small_plan(*lines), small_plan(*lines, ACKS, TO_ACKS))
    )
    assert apart["Download", "down"].measured.goodput > 1.3 * together["Download", "down"].measured.goodput
    assert (apart["Upload", "up"].queue, apart["Download", "down"].queue) == ("rest", "rest")


def test_what_holds_a_line_back_is_noted_and_only_then(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    line = ("down: 20 Mbit/s, up: 10 Mbit/s", "down: 90 Mbit/s, up: 3 Mbit/s")
    upload = UPLOAD.replace("flows: 4", "flows: 16").replace("10.7.0.9", "10.7.0.10")
    together, apart = (
        compare(plan, traffic(plan, upload, DOWNLOAD, head=HEAD.replace(*line)))
        for plan in (small_plan(line), small_plan(line, ACKS, TO_ACKS))
    )
    assert together.notes == (HeldBack("line", "down", "rest"),)
    assert apart.notes == ()


@pytest.mark.parametrize("priority", [1, 9])
def test_who_is_starved_by_whom_is_noted(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic], priority: int
) -> None:
    queue = ("rest: {default: true}", f"rest: {{default: true}}\n      guests: {{priority: {priority}}}")
    rule = ("rules:\n", "rules:\n  - {name: Guests, network: guests, queue: guests}\n")
    plan = small_plan(("down: 2 Mbit/s", "down: 18 Mbit/s"), queue, rule)
    starved = [note for note in compare(plan, traffic(plan, DOWNLOAD, GUEST)).notes if isinstance(note, Outranked)]
    assert [(one.name, one.other) for one in starved] == [
        ("Download", "Guest") if priority == 1 else ("Guest", "Download")
    ]


@pytest.mark.parametrize(("rate", "noted"), [("1 Mbit/s", False), ("3 Mbit/s", True)])
def test_a_cap_that_another_one_keeps_from_being_reached_is_noted(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic], rate: str, noted: bool
) -> None:
    plan = small_plan(("rules:", f"  phone: {{local: 10.7.1.20, down: {rate}}}\nrules:"))
    found = [note for note in compare(plan, traffic(plan, GUEST)).notes if isinstance(note, Unreached)]
    assert [(one.limiter, one.tighter) for one in found] == [("phone", "guest")] * noted


def test_rows_have_the_queue_of_their_own_packets_with_and_without_the_plan(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    large = ("rules:\n", "rules:\n  - {name: Large, length: over 1000 B, moved: over 1 MB, queue: rest}\n")
    plan = small_plan(large, ("port: 5004-5005, queue", "port: 1-5005, queue"), ("protocol: udp, ", ""))
    comparison = compare(plan, traffic(plan, CALL, DOWNLOAD))
    for rows in (comparison.before, comparison.after):
        queues = {key: row.queue for key, row in by_name(rows).items()}
        assert queues == {("Call", "up"): "calls", ("Call", "down"): "calls", ("Download", "down"): "rest"}


def test_a_lone_host_has_its_part_of_the_line_and_makes_room_for_others(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan(("down: 2 Mbit/s", "down: 2 Mbit/s, engage: above 80%"))
    guests = [
        f"  - {{name: G{n}, kind: download, at: {4 * n} s, local: 10.7.1.2{n}, remote: 203.0.113.6}}\n"
        for n in range(3)
    ]
    others = "  - {name: Work, kind: download, flows: 4, at: 24 s, local: 10.7.0.9, remote: 203.0.113.6}\n"
    rows = by_name(Lab(plan, traffic(plan, *guests, others, head=HEAD.replace("12 s", "40 s")), shaped=True).run().rows)

    def rates(name: str, first: int, last: int) -> list[float]:
        """In those parts of its time that lie between these seconds."""
        begin = {"G0": 3, "G1": 4, "G2": 8, "Work": 24}[name]
        parts = rows[name, "down"].measured.rates
        step = (40 - begin) / len(parts)
        return [
            rate
            for place, rate in enumerate(parts)
            if begin + place * step >= first - 1e-9 and begin + (place + 1) * step <= last + 1e-9
        ]

    data = 1448 / DATA_FRAME  # of a frame
    # Of 18 Mbit/s that are usable 80% are 14.4: the first has them alone, then all three in equal parts.
    assert rates("G0", 3, 4) and all(0.85 * 14.4e6 * data < rate < 1.05 * 14.4e6 * data for rate in rates("G0", 3, 4))
    three = [np.mean(rates(name, 14, 24)) for name in ("G0", "G1", "G2")]
    assert 0.9 * 14.4e6 * data < sum(three) < 1.05 * 14.4e6 * data
    assert three == pytest.approx([4.8e6 * data] * 3, rel=0.15)
    # Who is not named takes the rest; and the three come down to their cap of 2 Mbit/s each, and no further.
    assert [np.mean(rates(f"G{n}", 30, 40)) for n in range(3)] == pytest.approx([2e6 * data] * 3, rel=0.1)
    assert np.mean(rates("Work", 30, 40)) > 0.85 * 12e6 * data


def test_a_schedule_opens_while_the_simulation_runs(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan(
        ("down: 2 Mbit/s}", "down: 2 Mbit/s, when: open}"), ("limiters:", "schedules: {open: [08:00-18:00]}\nlimiters:")
    )
    six_seconds_before = datetime(2027, 3, 25, 7, 59, 51, tzinfo=ZoneInfo("Europe/Dublin"))  # after the warm-up of 3 s
    rows = by_name(Lab(plan, traffic(plan, GUEST), shaped=True, begin=six_seconds_before).run().rows)
    mean = (6 * 18_000_000 + 3 * 2_000_000) / 9
    assert rows["Guest", "down"].measured.goodput == pytest.approx(mean * SEGMENT / DATA_FRAME, rel=0.03)


def test_the_same_seed_gives_the_same_run_and_another_seed_another(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic]
) -> None:
    plan = small_plan()
    short = HEAD.replace("12 s", "5 s")
    runs = [Lab(plan, traffic(plan, UPLOAD, PROBE, CALL, head=short), shaped=True).run() for _ in range(2)]
    assert runs[0] == runs[1]
    changed = traffic(plan, UPLOAD, PROBE, CALL, head=short.replace("seed: 5", "seed: 6"))
    assert Lab(plan, changed, shaped=True).run() != runs[0]


def test_events_happen_in_the_order_of_their_times_and_of_asking() -> None:
    events, seen = Events(), []
    for time, name in ((30, "c"), (10, "a"), (30, "d"), (20, "b")):
        events.at(time, seen.append, name)
    events.run(31)
    assert seen == ["a", "b", "c", "d"]
    assert events.now == 31
    with pytest.raises(ValueError, match="in the past"):
        events.at(30, seen.append)


def test_a_meter_counts_between_its_times_and_jitter_is_that_of_rfc_3550() -> None:
    meter = Meter(begin=SECOND, end=10 * SECOND)
    for number, delay in enumerate((500, 16, 48, 16)):
        now = number * SECOND + 1000
        meter.left(now - delay)
        meter.arrived(now - delay, now)
        meter.carried(1000, now)
    result = meter.result()
    # Delays 16, 48, 16 count: J becomes 32/16 = 2, then 2 + (32 - 2)/16 = 3.875; their mean is 2.9375.
    assert (result.p50, result.jitter, result.loss, result.sent) == (16, 2.9375, 0, 3)
    assert result.goodput == 3 * 8000 / 9


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("kind: call", "kind: cal", "unknown value “cal” for kind"),
        ("local: 10.7.0.4", "local: 10.9.0.4", "10.9.0.4 is in no network of the plan"),
        ("remote: 203.0.113.5", "remote: 2001:db8::5", "not of the same IP version"),
        ("lines: {line", "lines: {lime", "did you mean “line”"),
        ("duration: 12 s", "duration: 2 s", "not between the warm-up"),
        ("duration: 12 s", "duration: 12", "is not a span of time"),
        ("port: 5004", "at: 12 s", "12 s is not before the end"),
        ("port: 5004", "prot: 5004", "did you mean “port”"),
    ],
)
def test_a_traffic_file_that_does_not_fit_is_refused_with_its_line(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic], old: str, new: str, says: str
) -> None:
    plan = small_plan()
    with pytest.raises(FileError) as caught:
        traffic(plan, CALL.replace(old, new), head=HEAD.replace(old, new))
    assert says in str(caught.value)
    assert caught.value.findings[0].line == (6 if old in CALL else HEAD[: HEAD.index(old)].count("\n") + 1)


@settings(max_examples=5)
@given(st.integers(1, 9), st.integers(4, 20), st.integers(1, 4))
def test_the_totals_of_a_line_are_what_arithmetic_says(calls: int, mbit: int, flows: int) -> None:
    talk, speech = calls * 50 * 218 * 8, calls * 50 * 160 * 8  # bit/s: 50 packets a second, in Ethernet and as sound
    head = f"duration: 7 s\nwarmup: 3 s\nlines: {{line: {{down: {mbit} Mbit/s, up: 10 Mbit/s, delay: 5 ms}}}}\n"
    called = CALL.replace("}", f", flows: {calls}}}")
    filling = f"  - {{name: Full, kind: download, flows: {flows}, local: 10.7.0.9, remote: 203.0.113.6}}\n"
    with tempfile.TemporaryDirectory() as folder:
        plan_file, file = Path(folder) / "sluice.yaml", Path(folder) / "traffic.yaml"
        plan_file.write_text(SMALL_PLAN.replace("down: 20 Mbit/s", f"down: {mbit} Mbit/s"))
        plan = load(plan_file)
        for downloads in ("", filling):
            file.write_text(f"{head}applications:\n{called}{downloads}")
            for shaped, rate in ((False, mbit * 10**6), (True, mbit * 10**6 * 9 // 10)):
                load_ = Lab(plan, load_traffic(file, plan), shaped).run().load("line", "down")
                if downloads:
                    assert 0.97 * rate < load_.carried < 1.001 * rate
                    assert load_.goodput == pytest.approx(speech + (load_.carried - talk) * 1448 / 1518, rel=0.02)
                else:
                    assert load_.carried == pytest.approx(talk, rel=0.01)
                    assert load_.goodput == pytest.approx(speech, rel=0.01)


@pytest.mark.parametrize("rate", [128, 256])
@pytest.mark.parametrize("flows", [1, 4])
def test_a_download_does_not_stall_on_a_slow_queue_that_keeps_dropping(
    small_plan: Callable[..., Plan], tmp_path: Path, rate: int, flows: int
) -> None:
    """With a target of one frame, so that CoDel drops retransmissions too."""
    plan = small_plan(
        ("down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%", f"down: {rate} kbit/s, up: {rate} kbit/s, headroom: 0%"),
        ("{guarantee: 20%, priority: 1}", "{guarantee: 1%}"), ("{default: true}", "{default: true, aqm: codel}"),
    )  # fmt: skip
    file = tmp_path / "traffic.yaml"
    file.write_text(
        "duration: 90 s\nwarmup: 30 s\nlines: {line: {down: 10 Mbit/s, up: 10 Mbit/s, delay: 10 ms, buffer: 1 s}}\n"
        f"applications: [{{name: D, kind: download, flows: {flows}, local: 10.7.0.9, remote: 203.0.113.9, port: 80}}]\n"
    )
    (row,) = [row for row in Lab(plan, load_traffic(file, plan), shaped=True).run().rows if row.way == "down"]
    assert row.measured.goodput > 0.95 * rate * 1000 * (1500 - 52) / 1518
