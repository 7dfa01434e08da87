"""The counters for a metrics collector: in the OpenMetrics format, over HTTP, on this machine alone.

Any user of this machine may connect: at most MOST connections are open, each for LASTS, and the oldest ends for a new
one. The answer is made once in FRESH, in a thread.

docs/metrics.md lists the names, labels and units. Counters start at 0 with the gate.
"""

from __future__ import annotations

import asyncio
import socket
import time
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, NamedTuple

from prometheus_client.core import (
    CounterMetricFamily,
    GaugeMetricFamily,
    HistogramMetricFamily,
    InfoMetricFamily,
    Metric,
)
from prometheus_client.exposition import choose_encoder
from prometheus_client.registry import Collector, CollectorRegistry

from wily_sluice.control.link.messages import Health
from wily_sluice.engine.tally import STEPS, step_end
from wily_sluice.history.counts import Counts, Key, Subject
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, SECOND

if TYPE_CHECKING:
    from aiohttp.web_protocol import RequestHandler

LOOPBACK = "127.0.0.1"
MOST, LASTS, FRESH = 32, 10.0, 1.0  # connections; seconds
LABELS: dict[Subject, tuple[str, ...]] = {
    "queue": ("uplink", "direction", "queue"),
    "uplink": ("direction", "uplink"),
    "limiter": ("direction", "limiter"),
    "host": ("direction", "host"),
    "rule": ("direction", "rule"),
    "service": ("direction", "service"),
}
A_BUCKET = 4  # steps of the histogram: a doubling
COUNTED = (
    ("bytes", "bytes", "bytes that were sent on, as an interface counts them"),
    ("packets", "packets", "packets that were sent on"),
    ("dropped_packets", "drops", "packets that were dropped"),
    ("marked_packets", "marks", "packets that were marked instead of dropped (RFC 3168)"),
)
OF_THE_GATE = (
    ("bypassed_packets", "bypassed", "packets that bypassed the gate because they arrived faster than it reads them"),
    (
        "crowd_packets",
        "crowd",
        "packets of new conversations that were sorted only by host because there were too many",
    ),
    ("shed_packets", "shed", "dropped packets of conversations that opened too fast"),
    ("unrecognised_packets", "unrecognised", "first packets that recognition skipped for lack of time"),
    ("gate_late_turns", "late_turns", "turns of the gate's loop that took longer than 2 ms"),
)


class Totals(NamedTuple):
    """What there is to tell: `missing` are interfaces, `health` is the gate's own, `names` are those of hosts."""

    plan: Plan | None
    counts: dict[Key, Counts]
    revision: int
    trial: bool
    missing: set[str]
    health: Health
    names: Mapping[str, str] = {}


class Gathered(Collector):
    """Gives out the totals at each collection."""

    def __init__(self, now: Callable[[], Totals]) -> None:
        self._now = now

    def collect(self) -> Iterable[Metric]:
        """All metrics."""
        plan, totals, revision, trial, missing, health, names = self._now()
        by_subject: dict[Subject, list[tuple[Key, Counts]]] = {}
        for key, counts in list(totals.items()):
            by_subject.setdefault(key.subject, []).append((key, counts))
        for subject, labels in LABELS.items():
            yield from _of(subject, labels, by_subject.get(subject, []))
        usable = GaugeMetricFamily(
            "sluice_uplink_usable_bits_per_second", "what of the line is used", labels=("direction", "uplink")
        )
        here = GaugeMetricFamily("sluice_uplink_here", "1 while its interface is there", labels=("uplink",))
        for uplink in plan.uplinks if plan is not None else ():
            here.add_metric((uplink.name,), float(uplink.interface not in missing))
            for direction in DIRECTIONS:
                usable.add_metric((direction, uplink.name), uplink.usable(direction))
        yield usable
        yield here
        yield from _uplinks(plan, health)
        called = InfoMetricFamily("sluice_host_name", "name of a host", labels=("host",))
        for address in sorted({key.name for key, _ in by_subject.get("host", []) if key.name in names}):
            called.add_metric((address,), {"name": names[address]})
        yield called
        for name, field, about in OF_THE_GATE:
            yield CounterMetricFamily(f"sluice_{name}", about, value=getattr(health, field))
        about = "fraction of the last second that the loop was busy"
        yield GaugeMetricFamily("sluice_gate_busy_ratio", about, value=health.busy)
        about = "longest turn of the loop in the last second"
        yield GaugeMetricFamily("sluice_gate_longest_turn_seconds", about, value=health.longest_turn / SECOND)
        yield GaugeMetricFamily("sluice_plan_revision", "the plan that runs, by its number", value=revision)
        yield GaugeMetricFamily("sluice_plan_on_trial", "1 while it is on trial", value=float(trial))


def _uplinks(plan: Plan | None, health: Health) -> Iterable[Metric]:
    """The traffic of each uplink, and its use by routes."""
    crossed = CounterMetricFamily(
        "sluice_uplink_crossed_bytes",
        "bytes on an uplink, counted by its interface and by the gate",
        labels=("direction", "uplink", "by"),
    )
    for name, ways in health.crossed.items():
        for direction, (line, ours) in ways.items():
            crossed.add_metric((direction, name, "interface"), line)
            crossed.add_metric((direction, name, "gate"), ours)
    yield crossed
    if plan is None or not plan.routing:
        return
    up = GaugeMetricFamily("sluice_uplink_up", "1 while routes use it", labels=("uplink",))
    routed = CounterMetricFamily(
        "sluice_uplink_routed_conversations", "conversations that routes sent over it", labels=("uplink",)
    )
    for uplink in plan.uplinks:
        up.add_metric((uplink.name,), float(uplink.name not in health.down))
        routed.add_metric((uplink.name,), health.carried.get(uplink.name, 0))
    yield up
    yield routed


def _of(subject: Subject, labels: tuple[str, ...], rows: list[tuple[Key, Counts]]) -> Iterable[Metric]:
    for word, field, about in COUNTED:
        metric = CounterMetricFamily(f"sluice_{subject}_{word}", f"{about}, by {subject}", labels=labels)
        for key, counts in rows:
            metric.add_metric(_labels(key), getattr(counts, field))
        yield metric
    by = f", by {subject}"
    busy = CounterMetricFamily(f"sluice_{subject}_busy_seconds", f"time with a backlog{by}", labels=labels)
    backlog = GaugeMetricFamily(f"sluice_{subject}_backlog_bytes", f"backlog{by}", labels=labels)
    waits = HistogramMetricFamily(f"sluice_{subject}_delay_seconds", f"delay of packets in the gate{by}", labels=labels)
    for key, counts in rows:
        busy.add_metric(_labels(key), counts.busy / SECOND)
        backlog.add_metric(_labels(key), counts.backlog)
        waits.add_metric(_labels(key), _buckets(counts), sum_value=None)
    yield busy
    yield backlog
    yield waits
    if subject in ("host", "service"):
        about = "lower quartile of the last round trips of TCP and QUIC, beyond the line or inside the house"
        trips = GaugeMetricFamily(f"sluice_{subject}_round_trip_seconds", about, labels=(subject, "side"))
        for key, counts in rows:
            for side in ("beyond", "inside"):
                trip = counts.round_trip(side == "beyond")
                if trip is not None:
                    trips.add_metric((key.name, side), trip / SECOND)
        yield trips


def _labels(key: Key) -> tuple[str, ...]:
    return (key.uplink, key.direction, key.name) if key.subject == "queue" else (key.direction, key.name)


def _buckets(counts: Counts) -> list[tuple[str, float]]:
    """How many waited at most so long, in seconds."""
    waits = counts.waits or [0] * STEPS
    seen = counts.packets - sum(waits)  # what did not wait
    buckets = []
    for first in range(0, STEPS - A_BUCKET, A_BUCKET):
        seen += sum(waits[first : first + A_BUCKET])
        buckets.append((repr(step_end(first + A_BUCKET - 1) / SECOND), float(seen)))
    return [*buckets, ("+Inf", float(counts.packets))]


class Endpoint:
    """Serves them on a port of the loopback address, while there is one. Within a running event loop."""

    def __init__(self, collector: Collector) -> None:
        self._registry = CollectorRegistry()
        self._registry.register(collector)
        self._server: asyncio.Task[None] | None = None
        self.port: int | None = None

    def serve(self, port: int | None) -> None:
        """Serve there from now on; nowhere for None. OSError when the port is taken."""
        if port == self.port:
            return
        if self._server is not None:
            self._server.cancel()
        self._server, self.port = None, None
        if port is not None:
            end = socket.create_server((LOOPBACK, port))
            self._server = asyncio.get_running_loop().create_task(_serve(end, self._registry))
            self.port = port


async def _serve(end: socket.socket, registry: CollectorRegistry) -> None:
    from aiohttp import web  # which few plans need

    made: dict[str, tuple[float, bytes]] = {}  # by content type
    making = asyncio.Lock()

    async def answer(request: web.BaseRequest) -> web.Response:
        encode, kind = choose_encoder(request.headers.get("Accept", ""))
        async with making:
            at, text = made.get(kind, (-FRESH, b""))
            if time.monotonic() - at >= FRESH:
                text = await asyncio.to_thread(encode, registry)
                made[kind] = time.monotonic(), text
        return web.Response(body=text, headers={"Content-Type": kind, "Connection": "close"})

    class Server(web.Server):
        """Ends connections that are too many, or last too long."""

        def connection_made(self, handler: RequestHandler, transport: asyncio.Transport) -> None:
            super().connection_made(handler, transport)
            if len(self.connections) > MOST:
                open_ones = [other.transport for other in self.connections]
                oldest = next((other for other in open_ones if other is not None and not other.is_closing()), None)
                if oldest is not None:
                    oldest.abort()
            asyncio.get_running_loop().call_later(LASTS, transport.abort)

    server = await asyncio.get_running_loop().create_server(Server(answer, access_log=None), sock=end)
    async with server:
        await server.serve_forever()
