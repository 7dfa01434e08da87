"""The addresses of a rig: its own are never the plan's."""

from dataclasses import replace
from ipaddress import ip_network

from hypothesis import given
from hypothesis import strategies as st

from wily_sluice import examples
from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.forecast.prove.example import remote_for
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Network, Plan
from wily_sluice.rig.layout import FAR_ADDRESSES, USUAL, Layout, free_ranges

DEMO = load(examples.folder() / examples.PLAN)
# Near the rig's usual ranges and among those that take their place; wide and narrow.
BASES = ("192.0.2.0", "198.51.100.0", "203.0.113.0", "100.64.0.0", "198.18.0.0", "10.0.0.0",
         "2001:db8::", "2001:db8:ff::", "2001:db8:f000::", "2001:db8:1::", "fd61::")  # fmt: skip


@st.composite
def subnets(draw: st.DrawFn) -> str:
    base = draw(st.sampled_from(BASES))
    length = draw(st.integers(40, 64) if ":" in base else st.integers(16, 28))
    return str(ip_network((base, length), strict=False))


def with_networks(*named: str) -> Plan:
    nothing = AddressSet()
    networks = tuple(Network(f"n{n}", f"lan{n}", (subnet,), nothing) for n, subnet in enumerate(named))
    return replace(DEMO, networks=networks)


@given(st.lists(subnets(), min_size=1, max_size=5))
def test_no_range_of_a_rig_overlaps_a_network_or_another_range(drawn: list[str]) -> None:
    ranges = free_ranges(with_networks(*drawn))
    own = [ip_network(one) for one in (*ranges[:4], *ranges.far)]
    others = [ip_network(one) for one in drawn]
    for index, one in enumerate(own):
        for other in own[index + 1 :] + others:
            assert one.version != other.version or not one.overlaps(other)


def test_only_a_range_that_a_network_is_in_gives_way() -> None:
    assert free_ranges(with_networks("10.7.0.0/24")) == USUAL
    beside, within = with_networks("192.0.3.0/24"), with_networks("192.0.2.128/25")
    assert free_ranges(beside) == USUAL
    assert free_ranges(within) == USUAL._replace(wan4="198.18.0.0/24")
    assert Layout(beside, "x", 1).far_addresses == FAR_ADDRESSES


def test_a_remote_is_in_no_network() -> None:
    plan = load(examples.sites()["shop"].file)
    assert all(remote_for(plan, width) not in plan.hosts for width in (4, 16))
