from ipaddress import ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.plan.file.words import address_set, parse_range

# Small numbers, so that drawn ranges touch and overlap.
NUMBERS = st.integers(0, 60)
RANGES = st.lists(st.tuples(NUMBERS, NUMBERS).map(sorted), max_size=8)


def made(ranges: list[list[int]]) -> tuple[AddressSet, set[int]]:
    packed = [(first.to_bytes(4), last.to_bytes(4)) for first, last in ranges]
    return AddressSet(packed), {number for first, last in ranges for number in range(first, last + 1)}


@given(RANGES, RANGES)
def test_it_is_the_set_that_its_ranges_say(one: list[list[int]], two: list[list[int]]) -> None:
    (a, a_numbers), (b, b_numbers) = made(one), made(two)
    for made_set, numbers in ((a, a_numbers), (a | b, a_numbers | b_numbers), (a & b, a_numbers & b_numbers)):
        assert {n for n in range(70) if n.to_bytes(4) in made_set} == numbers
        assert made_set.size == len(numbers)
    assert (a == b) == (a_numbers == b_numbers)


def test_the_versions_do_not_mix() -> None:
    both = address_set("0.0.0.0/0") | address_set("fd61::/64")
    assert ip_address("203.0.113.9").packed in both
    assert ip_address("fd61::5").packed in both
    assert ip_address("::1").packed not in both
    assert str(address_set("10.61.0.40-10.61.0.41")) == "10.61.0.40-10.61.0.41"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("10.61.0.59-10.61.0.40", "backwards: write 10.61.0.40-10.61.0.59"),
        ("10.61.0.1-fd61::1", "from IPv4 to IPv6"),
        ("10.61.0.5/24", "the subnet is 10.61.0.0/24"),
        ("10.61.0.300", "not an address"),
        ("10.61.0.0/33", "not a subnet"),
    ],
)
def test_a_slip_in_an_address_is_told_with_what_would_be_right(text: str, message: str) -> None:
    with pytest.raises(ValueError, match=message):
        parse_range(text)
