import socket
import urllib.request

from prometheus_client.openmetrics.parser import text_string_to_metric_families

from wily_sluice.control.api.metrics import Endpoint, Gathered, Totals
from wily_sluice.control.link.messages import Health
from wily_sluice.engine.tally import STEPS, step_of
from wily_sluice.history.counts import Counts, Key
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND


def test_what_is_served_is_open_metrics_and_on_loopback_alone(demo_plan: Plan) -> None:
    counts = Counts(bytes=5000, packets=10, drops=2, backlog=300, busy=SECOND // 2, waits=[0] * STEPS)
    counts.waits[step_of(3 * MILLISECOND)] = 4
    totals = {Key("queue", "fibre", "up", "work/desk"): counts, Key("host", "", "down", "10.61.0.40"): counts}
    names = {"10.61.0.40": "reception", "10.61.0.99": "nobody here"}
    endpoint = Endpoint(
        Gathered(lambda: Totals(demo_plan, totals, 7, True, {"wan1"}, Health(bypassed=12, busy=0.25), names))
    )
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    endpoint.serve(port)
    asked = urllib.request.Request(
        f"http://127.0.0.1:{port}/metrics", headers={"Accept": "application/openmetrics-text; version=1.0.0"}
    )
    with urllib.request.urlopen(asked) as answer:
        text = answer.read().decode()
    endpoint.serve(None)
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
