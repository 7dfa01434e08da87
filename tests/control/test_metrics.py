import asyncio
import socket
import threading
import urllib.request

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from wily_sluice.control.api import metrics
from wily_sluice.control.api.metrics import Endpoint, Gathered, Totals
from wily_sluice.control.link.messages import Health
from wily_sluice.engine.tally import STEPS, step_of
from wily_sluice.history.counts import Counts, Key
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def scrape(port: int) -> str:
    asked = urllib.request.Request(
        f"http://127.0.0.1:{port}/metrics", headers={"Accept": "application/openmetrics-text; version=1.0.0"}
    )
    with urllib.request.urlopen(asked, timeout=5) as answer:
        return str(answer.read().decode())


def test_slow_connections_take_no_threads_and_keep_no_collector_out(
    demo_plan: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = 0

    def now() -> Totals:
        nonlocal made
        made += 1
        return Totals(demo_plan, {}, 7, False, set(), Health())

    endpoint, port = Endpoint(Gathered(now)), free_port()
    made = 0  # it is asked once when it is registered
    monkeypatch.setattr(metrics, "LASTS", 0.5)

    async def ask() -> tuple[int, int]:
        endpoint.serve(port)
        slow, before = [], threading.active_count()
        for _ in range(300):
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(b"GET /met")
            slow.append((reader, writer))
        texts = await asyncio.gather(*(asyncio.to_thread(scrape, port) for _ in range(4)))
        assert all(text.endswith("# EOF\n") for text in texts)
        threads = threading.active_count() - before
        await asyncio.sleep(0.8)
        left = sum(not reader.at_eof() and reader.exception() is None for reader, _ in slow)
        for _, writer in slow:
            writer.close()
        endpoint.serve(None)
        return threads, left

    threads, left = asyncio.run(ask())
    assert threads < 20 and left == 0 and made == 1


def test_what_is_served_is_open_metrics_and_on_loopback_alone(demo_plan: Plan) -> None:
    counts = Counts(bytes=5000, packets=10, drops=2, backlog=300, busy=SECOND // 2, waits=[0] * STEPS)
    counts.waits[step_of(3 * MILLISECOND)] = 4
    totals = {Key("queue", "fibre", "up", "work/desk"): counts, Key("host", "", "down", "10.61.0.40"): counts}
    names = {"10.61.0.40": "reception", "10.61.0.99": "nobody here"}
    endpoint = Endpoint(
        Gathered(lambda: Totals(demo_plan, totals, 7, True, {"wan1"}, Health(bypassed=12, busy=0.25), names))
    )
    port = free_port()

    async def ask() -> str:
        endpoint.serve(port)
        text = await asyncio.to_thread(scrape, port)
        endpoint.serve(None)
        return text

    text = asyncio.run(ask())
    assert text.endswith("# EOF\n")
    samples = {
        (sample.name, *sorted(sample.labels.values())): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }
    desk = ("fibre", "up", "work/desk")
    assert samples["sluice_queue_bytes_total", *desk] == 5000
    assert samples["sluice_queue_busy_seconds_total", *desk] == 0.5
    assert samples["sluice_host_dropped_packets_total", "10.61.0.40", "down"] == 2
    assert [sample for sample in samples if sample[0] == "sluice_host_name_info"] == [
        ("sluice_host_name_info", "10.61.0.40", "reception")
    ]
    assert samples["sluice_uplink_here", "mobile"] == 0
    assert (samples["sluice_plan_revision",], samples["sluice_plan_on_trial",]) == (7, 1)
    assert samples["sluice_bypassed_packets_total",] == 12
    assert samples["sluice_gate_busy_ratio",] == 0.25
    waited = {
        float(sample.labels["le"]): sample.value
        for family in text_string_to_metric_families(text)
        if family.name == "sluice_queue_delay_seconds"
        for sample in family.samples
        if sample.name.endswith("_bucket")
    }
    assert waited[float("inf")] == 10
    # Six did not wait; four waited 3 ms, which is between 2**7 and 2**8 units of 2**14 ns.
    assert [waited[units * 2**14 / 1e9] for units in (128, 256)] == [6, 10]
