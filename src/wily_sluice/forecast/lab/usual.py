"""Traffic that any line must stand: a call beside full uploads and downloads, on every uplink of a plan."""

from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.known import NOTHING, Known
from wily_sluice.engine.course import steady
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.forecast.lab.traffic import Application, Kind, RealLine, Traffic
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, MILLISECOND, SECOND, Nanoseconds, transmission_time

LONGEST, SHORTEST = 30 * SECOND, 10 * SECOND
WARMUP: Nanoseconds = 5 * SECOND  # in which what the first windows put into the modem drains, at the headroom
PACKETS = 400_000  # that are simulated at most, of full ones: on a fast line the time is shorter
DELAY: Nanoseconds = 10 * MILLISECOND  # of the line, one way
BUFFER: Nanoseconds = 300 * MILLISECOND  # of the modem
FLOWS = 4
TCP, UDP = 6, 17
CALL_PORT, OTHER_PORT = 5004, 29_999
REMOTE = {4: bytes((203, 0, 113, 5)), 16: bytes.fromhex("20010db8") + bytes(11) + b"\x05"}


def usual_traffic(plan: Plan, packets: int = PACKETS) -> Traffic:
    """Up to half a minute of it, from hosts of the first network. ValueError when no network has room for these."""
    hosts = _hosts(plan)
    rate = sum(uplink.measured(way) for uplink in plan.uplinks for way in DIRECTIONS)
    duration = max(SHORTEST, min(LONGEST, packets * transmission_time(LONGEST_FRAME, rate)))
    applications: list[Application] = []
    for uplink in plan.uplinks:

        def add(
            name: str, kind: Kind, host: bytes, flows: int, known: Known = NOTHING, line: str = uplink.name
        ) -> None:
            protocol, port = (UDP, CALL_PORT) if kind == "call" else (TCP, OTHER_PORT)
            parties = Parties(protocol, host, REMOTE[len(host)], 0, port)
            applications.append(Application(name, kind, parties, 0, flows, 0, duration, line, known))

        several = f" on {uplink.name}" if len(plan.uplinks) > 1 else ""
        add(f"Call{several}", "call", hosts[0], 1, Known("rtp"))
        add(f"Uploads{several}", "upload", hosts[1], FLOWS)
        add(f"Downloads{several}", "download", hosts[2], FLOWS)
    lines = {uplink.name: RealLine(steady(uplink.down), steady(uplink.up), DELAY, BUFFER) for uplink in plan.uplinks}
    return Traffic(duration, WARMUP, 1, lines, tuple(applications))


def _hosts(plan: Plan) -> list[bytes]:
    """Three hosts of one network, some way into it, where the router's own address rarely is."""
    for network in plan.networks:
        for first, last in network.addresses:
            begin, size = int.from_bytes(first), int.from_bytes(last) - int.from_bytes(first) + 1
            if size >= 8:
                return [(begin + size // 2 + step).to_bytes(len(first)) for step in range(3)]
    raise ValueError("no network has room for three hosts")
