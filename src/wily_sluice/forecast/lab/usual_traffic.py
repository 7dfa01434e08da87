"""Traffic that any line must stand: an evening of calls, games, films, transfers and guests, on every uplink."""

from collections.abc import Iterator

from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.engine.line import steady
from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.forecast.lab.traffic import Application, RealLine, Traffic
from wily_sluice.plan.model import Network, Plan
from wily_sluice.units import DIRECTIONS, MILLISECOND, SECOND, Nanoseconds, transmission_time

LONGEST, SHORTEST = 30 * SECOND, 10 * SECOND
WARMUP: Nanoseconds = 10 * SECOND  # at most: what the first windows put into the modem drains, at the headroom
PACKETS = 400_000  # that are simulated at most, of full ones: on a fast line the time is shorter
DELAY: Nanoseconds = 10 * MILLISECOND  # of the line, one way
BUFFER: Nanoseconds = 300 * MILLISECOND  # of the modem
FLOWS, FEW = 4, 2
TCP, UDP = 6, 17
CALL_PORT, OTHER_PORT, WEB, PLAIN = 5004, 29_999, 443, 80
REMOTE = {4: bytes((203, 0, 113, 5)), 16: bytes.fromhex("20010db8") + bytes(11) + b"\x05"}
MOST_GUESTS = 2  # networks beyond the first of which one host takes part


def usual_traffic(plan: Plan, packets: int = PACKETS) -> Traffic:
    """Up to half a minute of traffic. ValueError if no network has room for these hosts."""
    home, hosts = _hosts(plan)
    rate = sum(uplink.measured(way) for uplink in plan.uplinks for way in DIRECTIONS)
    duration = max(SHORTEST, min(LONGEST, packets * transmission_time(LONGEST_FRAME, rate)))
    applications: list[Application] = []
    for uplink in plan.uplinks:

        def add(
            name: str,
            kind: str,
            host: bytes,
            flows: int,
            known: Known = NOTHING,
            port: int = OTHER_PORT,
            line: str = uplink.name,
        ) -> None:
            parties = Parties(UDP if kind == "call" else TCP, host, REMOTE[len(host)], 0, port)
            several = f" on {line}" if len(plan.uplinks) > 1 else ""
            applications.append(Application(f"{name}{several}", kind, parties, 0, flows, 0, duration, line, known))

        add("Call", "call", hosts[0], 1, Known("rtp"), CALL_PORT)
        add("Game", "call", hosts[1], 1)
        add("Uploads", "upload", hosts[2], FLOWS)
        add("Downloads", "download", hosts[3], FLOWS)
        add("Film", "download", hosts[4], 1, _film(plan), WEB)
        if _asks_for(plan, "updates"):
            add("Update", "download", hosts[5], FEW, Known("http"), PLAIN)
        for network, host in _guests(plan, home):
            add(f"Download in {network}", "download", host, FEW)
    lines = {uplink.name: RealLine(steady(uplink.down), steady(uplink.up), DELAY, BUFFER) for uplink in plan.uplinks}
    return Traffic(duration, min(WARMUP, duration // 2), 1, lines, tuple(applications))


def _asks_for(plan: Plan, category: str) -> bool:
    return any(
        service.category == category
        for rule in plan.sorting
        for terms in rule.terms.walk()
        for service in terms.services or ()
    )


def _film(plan: Plan) -> Known:
    """The recognition of a film: a name that the plan has for films, or TLS."""
    films = (service for service in plan.services.values() if service.category == "streaming" and service.names)
    name = next((service.names[0] for service in films), "")
    return Known("tls", (name.replace("*.", "a."),) if name else ())


def _hosts(plan: Plan) -> tuple[Network, list[bytes]]:
    """Six hosts of one network, some way into it, where the router's own address rarely is; fewer in a small one."""
    for network in plan.networks:
        for first, last in network.addresses:
            begin, size = int.from_bytes(first), int.from_bytes(last) - int.from_bytes(first) + 1
            if size >= 8:
                return network, [(begin + size // 2 + step % (size // 2 - 1)).to_bytes(len(first)) for step in range(6)]
    raise ValueError("no network has room for three hosts")


def _guests(plan: Plan, home: Network) -> Iterator[tuple[str, bytes]]:
    """One host of each of the other networks."""
    others = [network for network in plan.networks if network is not home]
    for network in others[:MOST_GUESTS]:
        for first, last in list(network.addresses)[:1]:
            middle = (int.from_bytes(first) + int.from_bytes(last)) // 2
            yield network.name, middle.to_bytes(len(first))
