"""Tunnels of a plan: what their packets cost, by the standards, and how they are told from others."""

from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import SMALL_PLAN, told
from wily_sluice.engine.packet import ETHERNET, Framing
from wily_sluice.gate.kernel import diversion
from wily_sluice.plan.file.framings import parse_wrapper
from wily_sluice.plan.model import Plan


@pytest.mark.parametrize(
    ("words", "ipv6", "sizes"),
    [
        # RFC 7348 §5: 20 of IP, 8 of UDP, 8 of VXLAN, 14 of the Ethernet frame inside.
        ("vxlan", False, {1450: 1500, 100: 150}),
        ("vxlan", True, {1430: 1500}),
        # A header of 16, what is carried padded to 16 within the MTU of 1420, a tag of 16; over UDP.
        ("wireguard", False, {1420: 1480, 100: 112 + 60, 112: 112 + 60, 113: 128 + 60}),
        ("wireguard", True, {1420: 1500, 52: 64 + 80}),
        # RFC 4303 §2: 8, the trailer of 2 ends on a multiple of 4; RFC 4106 §3.1, §6: 8 of vector, 16 of check.
        ("esp", False, {100: 20 + 8 + 8 + 104 + 16, 102: 20 + 8 + 8 + 104 + 16, 103: 20 + 8 + 8 + 108 + 16}),
        ("ESP over UDP", False, {100: 28 + 8 + 8 + 104 + 16}),
        ("gre", False, {1476: 1500}),
        ("gre with key", True, {1452: 1500}),
        ("ipip", False, {1480: 1500}),
        ("24 B over UDP", False, {1000: 1052}),
    ],
)
def test_a_wrapped_packet_has_the_length_that_its_standard_says(words: str, ipv6: bool, sizes: dict[int, int]) -> None:
    wrapping = parse_wrapper(words).wrapping(ipv6)
    assert {length: wrapping.outside(length) for length in sizes} == sizes
    assert max(map(wrapping.outside, range(20, wrapping.largest + 1))) <= 1500
    framing = Framing(ETHERNET.overhead, ETHERNET.minimum, None, wrapping)
    assert [framing.cost(length) for length in sizes] == [ETHERNET.cost(size) for size in sizes.values()]


@pytest.mark.parametrize("words", [None, "wireguard", "24 B over udp"])
def test_an_offloaded_packet_counts_as_those_that_it_is_cut_into(words: str | None) -> None:
    wrapping = parse_wrapper(words).wrapping(False) if words is not None else None
    framing = Framing(18, 64, None, wrapping)
    for length in (framing.largest + 1, 9000, 65_535, 52 + 5 * (framing.largest - 52)):
        data, parts = length - 52, []
        while data:
            parts.append(52 + min(data, framing.largest - 52))
            data -= parts[-1] - 52
        outside = [wrapping.outside(part) if wrapping is not None else part for part in parts]
        assert framing.length_when_cut(length, 52, 14) == sum(outside) + 14 * (len(parts) - 1)
        assert framing.cost_when_cut(length, 52) == sum(map(framing.cost, parts))


@pytest.mark.parametrize(
    ("tunnel", "said"),
    [
        ("interface: vpn0, wrapping: wireguard", "the UDP port of “wireguard” is missing"),
        ("interface: vpn0, wrapping: gre, port: 47", "“gre” has no ports"),
        ("interface: vpn0, wrapping: l2tp", "no tunnel is “l2tp”"),
        ("interface: vpn0, wrapping: gre, uplink: lime", "there is no uplink “lime”"),
        ("interface: lan0, wrapping: gre", "lan0 is already the interface of vpn"),
        ("interface: vpn0, wrapping: gre, remote: far.example", "“far.example” is not an address"),
        ("interface: vpn0, wrapping: gre, remote: 10.7.0.9", "10.7.0.9 is a local host: the tunnel"),
    ],
)
def test_what_is_wrong_with_a_tunnel_is_told(tmp_path: Path, tunnel: str, said: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN + f"tunnels: {{vpn: {{{tunnel}}}}}\n")
    assert [said in str(finding) for finding in told(file)] == [True], told(file)


@pytest.mark.parametrize(("remote", "loops"), [("203.0.113.0/24", True), ("198.51.100.0/24", False)])
def test_what_carries_a_tunnel_is_not_to_be_led_into_it(tmp_path: Path, remote: str, loops: bool) -> None:
    file = tmp_path / "sluice.yaml"
    tunnel = "tunnels: {vpn: {interface: vpn0, wrapping: gre, remote: 203.0.113.20}}\n"
    file.write_text(SMALL_PLAN + tunnel + f"routes: [{{remote: {remote}, uplink: vpn}}, {{uplink: vpn}}]\n")
    assert [(one.code, one.key) for one in told(file)] == [("uplink-loop", "routes[1]")] * loops


def test_gateway_is_a_host_of_every_plan_and_no_other(tmp_path: Path, small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(("local: house", "local: [house, gateway]"))
    local = plan.rules[0].terms.local
    assert local is not None
    assert bytes((127, 0, 0, 1)) in local.addresses
    file = tmp_path / "other.yaml"
    for wrong, said in (
        (SMALL_PLAN + "hosts: {gateway: 10.7.0.9}\n", "this machine itself in every plan"),
        (SMALL_PLAN.replace("protocol: udp", "remote: gateway, protocol: udp"), "“gateway” is this machine itself"),
    ):
        file.write_text(wrong)
        assert [said in str(finding) for finding in told(file)] == [True], told(file)


def test_a_tunnels_packets_are_let_past_where_they_are_wrapped() -> None:
    chains = diversion.rules([], None, None, [diversion.Wrapped("wan0", 17, (7900,), ("2001:db8::9",))])
    assert diversion.WRAPPED_CHAIN not in chains[0].partition("[0:0]\n-A")[2]
    passing = [line for line in chains[1].splitlines() if line.startswith(f"-A {diversion.WRAPPED_CHAIN}")]
    assert [("-o wan0" in line, "-d 2001:db8::9" in line) for line in passing] == [(True, True), (False, False)]
