"""Limiters on real packets: hosts, subnets and all together, of both versions, over TCP and UDP."""

import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

import pytest

from tests.gate.stillness import hold
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.outside.files import load
from wily_sluice.rig.endpoint import FLOOD_PAYLOAD
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import BUFFER, finish, gate_running
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live

PLAN = """\
site: Small
uplinks:
  line: {interface: wan0, down: 80 Mbit/s, up: 80 Mbit/s, headroom: 10%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
trees:
  main: {queues: {rest: {default: true}}}
"""
SECONDS = 10
FULL = ETHERNET.cost(1500)


@pytest.fixture(scope="module")
def rig(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Rig]:
    file = tmp_path_factory.mktemp("limiters") / "sluice.yaml"
    file.write_text(PLAN)
    plan = load(file)
    standing = Rig(f"lim{os.getpid()}")
    standing.down()
    line = {u.name: LineFigures(u.down, u.up, 10 * MILLISECOND, BUFFER, u.framing) for u in plan.uplinks}
    standing.up(Layout(plan, standing.name, hosts=110), line)
    yield standing
    standing.down()


@contextmanager
def limited(rig: Rig, folder: Path, *lines: str) -> Iterator["subprocess.Popen[str]"]:
    """A gate whose plan has these lines more."""
    file = folder / "sluice.yaml"
    file.write_text(PLAN + "\n".join(lines) + "\n")
    os.environ["SLUICE_STATE"] = str(folder / "state")
    with gate_running(rig, file) as gate:
        yield gate


def addresses(count: int, version: int = 4) -> list[str]:
    first = ip_address("10.7.0.100" if version == 4 else "fd07::64")
    return [str(first + number) for number in range(count)]


def traffic(rig: Rig, kind: str, direction: str, hosts: list[str], *options: object) -> "subprocess.Popen[str]":
    remote = FAR_ADDRESSES[":" in hosts[0]]
    where = ("--local", ",".join(hosts), "--remote", remote)
    command = rig.program("house", "endpoint", kind, direction, *where, *options)
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def framed_rates(rig: Rig, kind: str, direction: str, hosts: list[str], rate: int) -> list[float]:
    """Bit/s of frames that each host had; a flood asks for more than `rate`, all of them for less than the line."""
    span = ("--seconds", SECONDS, "--warmup", 6 if kind == "load" else 3)
    asked = ("--rate", rate * 23 // 20) if kind == "flood" else ()
    found = finish(traffic(rig, kind, direction, hosts, *span, *asked))
    headers = 0 if ":" not in hosts[0] else 20
    payload = SEGMENT - headers if kind == "load" else FLOOD_PAYLOAD
    frame = FULL if kind == "load" else ETHERNET.cost(FLOOD_PAYLOAD + 28 + headers)
    return [carried * 8 / found["seconds"] * frame / payload for carried in found["bytes"]]


def introduce(rig: Rig, hosts: list[str]) -> None:
    """Send a datagram from each host of the house, so that the gateway knows its address."""
    send = (
        "import socket, sys, time\n"
        "for host in sys.argv[1:]:\n"
        "    family = socket.AF_INET6 if ':' in host else socket.AF_INET\n"
        "    with socket.socket(family, socket.SOCK_DGRAM) as end:\n"
        "        end.bind((host, 0))\n"
        f"        end.sendto(b'hello', ({FAR_ADDRESSES!r}[family == socket.AF_INET6], 9))\n"
        "time.sleep(2)\n"
    )
    subprocess.run(rig.command("house", [sys.executable, "-c", send, *hosts]), check=True)


STRANGER = "172.16.9.9"


@contextmanager
def near(rig: Rig) -> Iterator[None]:
    """The house's addresses on a link of the gateway's own, so that what has one hardware address is one device."""
    gateway = ["ip", "-n", f"{rig.prefix}gateway"]
    before = [("10.7.0.0/24", "10.7.0.100"), ("fd07::/64", "fd07::64")]
    for subnet, _ in before:
        subprocess.run([*gateway, "route", "replace", subnet, "dev", "lan0"], check=True)
    try:
        yield
    finally:
        for subnet, via in before:
            subprocess.run([*gateway, "route", "replace", subnet, "via", via, "dev", "lan0", "onlink"], check=True)


@pytest.mark.parametrize(("kind", "direction"), [("load", "up"), ("flood", "down")])
def test_a_device_has_its_rate_once_whatever_addresses_of_either_version_it_uses(
    rig: Rig, tmp_path: Path, kind: str, direction: str
) -> None:
    rate = 4_000_000
    limiter = f"limiters: {{each: {{local: house, per: host, down: {rate} bit/s, up: {rate} bit/s}}}}"

    def both() -> float:
        with ThreadPoolExecutor(2) as pool:
            found = pool.map(lambda n: framed_rates(rig, kind, direction, addresses(2, n), rate), (4, 6))
            return sum(map(sum, found))

    with near(rig), limited(rig, tmp_path, limiter):
        # The gateway asks for an address it does not know, for up to a second; then the two would not run side by side.
        introduce(rig, [*addresses(2, 4), *addresses(2, 6)])
        hold(both, lambda whole: abs(whole - rate) <= 0.03 * rate)


def test_a_device_has_its_rate_once_while_its_network_moves_to_another_prefix(rig: Rig, tmp_path: Path) -> None:
    rate, moved = 4_000_000, "2001:db8:9::66"
    house, gateway = (["ip", "-n", rig.prefix + index] for index in ("house", "gateway"))
    limiter = f"limiters: {{each: {{local: house, per: host, up: {rate} bit/s}}}}"

    def both() -> float:
        with ThreadPoolExecutor(2) as pool:
            found = pool.map(lambda host: framed_rates(rig, "flood", "up", [host], rate), ("fd07::66", moved))
            return sum(map(sum, found))

    with near(rig), limited(rig, tmp_path, limiter):
        hold(lambda: framed_rates(rig, "flood", "up", ["fd07::66"], rate)[0], lambda own: abs(own - rate) < 0.03 * rate)
        subprocess.run([*house, "address", "add", f"{moved}/64", "dev", "eth0", "nodad"], check=True)
        subprocess.run([*gateway, "route", "add", "2001:db8:9::/64", "dev", "lan0"], check=True)
        try:
            hold(both, lambda whole: abs(whole - rate) <= 0.03 * rate)
        finally:
            subprocess.run([*house, "address", "del", f"{moved}/64", "dev", "eth0"], check=True)
            subprocess.run([*gateway, "route", "del", "2001:db8:9::/64", "dev", "lan0"], check=True)


def test_up_to_a_part_of_the_line_hosts_have_more_than_their_cap_until_others_need_it(rig: Rig, tmp_path: Path) -> None:
    # 72 Mbit/s are usable, of which 80% are 57.6; the cap is 6 Mbit/s, and the last host has none.
    *capped, free = addresses(4)
    limiter = f"limiters: {{each: {{local: [{', '.join(capped)}], per: host, up: 6 Mbit/s, engage: above 80%}}}}"

    def beside_tcp() -> list[float]:
        with ThreadPoolExecutor(2) as pool:
            newcomer = pool.submit(framed_rates, rig, "load", "up", [free], 0)
            return [*framed_rates(rig, "load", "up", capped, 0), *newcomer.result()]

    with limited(rig, tmp_path, limiter):
        hold(
            lambda: framed_rates(rig, "load", "up", capped[:1], 0)[0],
            lambda alone: abs(alone - 57_600_000) <= 0.05 * 57_600_000,
        )
        hold(
            lambda: framed_rates(rig, "flood", "up", capped, 20_000_000),
            lambda found: all(abs(rate - 19_200_000) <= 0.06 * 19_200_000 for rate in found),
        )
        hold(
            beside_tcp,
            lambda found: (
                all(abs(rate - 6_000_000) <= 0.08 * 6_000_000 for rate in found[:-1]) and found[-1] > 48_000_000
            ),
        )


def test_an_address_outside_the_networks_subnets_escapes_no_limiter(rig: Rig, tmp_path: Path) -> None:
    rate = 4_000_000
    house, gateway = (["ip", "-n", rig.prefix + index] for index in ("house", "gateway"))
    subprocess.run([*house, "address", "add", f"{STRANGER}/32", "dev", "eth0"], check=True)
    subprocess.run([*gateway, "route", "add", STRANGER, "dev", "lan0"], check=True)
    limiter = f"limiters: {{all: {{local: house, up: {rate} bit/s}}}}"
    try:
        with limited(rig, tmp_path, limiter):
            hold(
                lambda: sum(framed_rates(rig, "flood", "up", [STRANGER, *addresses(1)], rate)),
                lambda whole: abs(whole - rate) <= 0.03 * rate,
            )
    finally:
        subprocess.run([*house, "address", "del", f"{STRANGER}/32", "dev", "eth0"], check=True)
        subprocess.run([*gateway, "route", "del", STRANGER, "dev", "lan0"], check=True)


@pytest.mark.parametrize(
    ("kind", "direction", "hosts", "version"),
    [
        ("load", "down", 100, 4),
        pytest.param("flood", "up", 10, 4, marks=pytest.mark.slow),
        pytest.param("load", "up", 10, 6, marks=pytest.mark.slow),
        pytest.param("load", "down", 1, 4, marks=pytest.mark.slow),
        pytest.param("load", "up", 100, 4, marks=pytest.mark.slow),
        pytest.param("flood", "up", 100, 4, marks=pytest.mark.slow),
        pytest.param("flood", "down", 10, 6, marks=pytest.mark.slow),
        pytest.param("flood", "down", 100, 4, marks=pytest.mark.slow),
    ],
)
def test_each_host_has_its_own_rate_however_many_there_are(
    rig: Rig, tmp_path: Path, kind: str, direction: str, hosts: int, version: int
) -> None:
    rate = 600_000 if hosts == 100 else 4_000_000
    limiter = f"limiters: {{each: {{local: house, per: host, down: {rate} bit/s, up: {rate} bit/s}}}}"
    with limited(rig, tmp_path, limiter):
        hold(
            lambda: framed_rates(rig, kind, direction, addresses(hosts, version), rate),
            lambda rates: all(abs(one - rate) <= 0.02 * rate for one in rates),
        )


@pytest.mark.slow
def test_subnets_and_all_together_have_theirs_whatever_the_hosts_do(rig: Rig, tmp_path: Path) -> None:
    # 10.7.0.100-103 is a subnet of /30; 104 to 107 is the next.
    each = "{local: house, per: subnet/30, down: 6 Mbit/s}"
    with limited(rig, tmp_path, f"limiters: {{subnet: {each}, all: {{local: house, up: 9 Mbit/s}}}}"):

        def of_subnets() -> tuple[float, float]:
            rates = framed_rates(rig, "load", "down", addresses(8), 3_000_000)
            return sum(rates[:4]), sum(rates[4:])

        hold(of_subnets, lambda both: all(abs(one - 6_000_000) <= 0.02 * 6_000_000 for one in both))
        hold(
            lambda: framed_rates(rig, "flood", "up", addresses(10), 2_000_000),
            lambda rates: abs(sum(rates) - 9_000_000) <= 0.02 * 9_000_000 and max(rates) <= 1.1 * min(rates),
        )


@pytest.mark.slow
def test_a_policer_of_one_frame_starves_tcp_and_the_burst_that_is_worked_out_does_not(rig: Rig, tmp_path: Path) -> None:
    def got() -> float:
        return sum(framed_rates(rig, "load", "up", addresses(1), 0)) / 10_000_000

    with limited(rig, tmp_path, "limiters: {p: {local: house, up: 10 Mbit/s, excess: drop, burst: 1518 B}}"):
        hold(got, lambda part: part <= 0.5)
    with limited(rig, tmp_path, "limiters: {p: {local: house, up: 10 Mbit/s, excess: drop}}"):
        hold(got, lambda part: 0.85 <= part <= 1.02)


@pytest.mark.slow
def test_a_schedule_changes_what_open_conversations_may_have_within_a_second_and_cuts_none(
    rig: Rig, tmp_path: Path
) -> None:
    now = datetime.now(UTC)
    turn = (now + timedelta(seconds=75)).replace(second=0, microsecond=0)
    window = f"{now:%H:%M}-{turn:%H:%M}"
    if turn.date() != now.date():
        pytest.skip("a day ends here")
    lines = (f"schedules: {{now: ['{window}']}}", "limiters: {e: {local: house, per: host, up: 5 Mbit/s, when: now}}")
    with limited(rig, tmp_path, *lines) as gate:
        wait = (turn - datetime.now(UTC)).total_seconds()
        time.sleep(max(0.0, wait - 8))
        running = traffic(rig, "load", "up", addresses(1), "--seconds", 16, "--flows", 4)
        found = finish(running)
        gate.send_signal(signal.SIGTERM)
        assert gate.stdout is not None
        told = [json.loads(line) for line in gate.stdout.read().splitlines()]
    at = {round(one["time"]): one["uplinks"]["line"]["up"]["rest"] for one in told}
    boundary = round(turn.timestamp())
    before = [at[boundary - n]["rate"] for n in (2, 3, 4) if boundary - n in at]
    after = [at[boundary + n]["rate"] for n in (3, 4, 5) if boundary + n in at]
    assert max(before) < 5_500_000
    assert min(after) > 10_000_000
    assert at[boundary + 1]["rate"] > 5_500_000 or at[boundary + 2]["rate"] > 10_000_000
    assert min(found["bytes"]) > 0


def test_a_quota_counts_what_the_interface_counts_and_survives_a_killing(rig: Rig, tmp_path: Path) -> None:
    limiter = "limiters: {q: {local: house, per: host, down: 5 Mbit/s, quota: 24 MB per month}}"

    def interface_bytes() -> int:
        command = rig.command("gateway", ["cat", "/sys/class/net/wan0/statistics/rx_bytes"])
        received = int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        command = rig.command("gateway", ["cat", "/sys/class/net/wan0/statistics/tx_bytes"])
        return received + int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)

    def kept() -> int:
        import sqlite3

        rows = sqlite3.connect(tmp_path / "state" / "quotas.sqlite").execute("select key, used from quota")
        return {bytes(key): used for key, used in rows}.get(socket.inet_aton(host), 0)

    def load(seconds: int) -> int:
        """What crossed the interface meanwhile, with a gate of its own."""
        with limited(rig, tmp_path, limiter) as gate:
            before = interface_bytes()
            finish(traffic(rig, "load", "down", [host], "--seconds", seconds))
            time.sleep(0.5)
            counted = interface_bytes() - before
            gate.send_signal(signal.SIGTERM)
            gate.wait(timeout=10)
        return counted

    host = addresses(1)[0]
    counted = load(1)
    assert 8_000_000 < counted < 22_000_000  # before it is used up: then packets are dropped that have come by the line
    assert abs(kept() - counted) <= 0.01 * counted
    load(3)
    counted = kept()
    assert counted > 24_000_000
    # Used up before, it holds from the first packet on; and what a killed gate had counted ten seconds ago is there.
    with limited(rig, tmp_path, limiter) as gate:
        running = traffic(rig, "load", "down", [host], "--seconds", 12)
        time.sleep(11.5)
        os.kill(gate.pid, signal.SIGKILL)
        rate = finish(running)["goodput"]
    time.sleep(1)
    assert rate < 8_000_000
    assert kept() >= counted + 0.9 * 1 * 5_000_000 / 8


@pytest.mark.slow
def test_a_host_named_by_its_hardware_address_is_limited_whatever_its_address(rig: Rig, tmp_path: Path) -> None:
    command = rig.command("house", ["cat", "/sys/class/net/eth0/address"])
    hardware = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip()
    lines = (f"groups: {{box: ['{hardware}']}}", "limiters: {box: {local: box, down: 4 Mbit/s, up: 4 Mbit/s}}")
    with limited(rig, tmp_path, *lines):
        hold(
            lambda: framed_rates(rig, "load", "up", addresses(1, 6), 0)[0],
            lambda rate: abs(rate - 4_000_000) <= 0.02 * 4_000_000,
        )
