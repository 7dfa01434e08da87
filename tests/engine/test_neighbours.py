from collections import Counter
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.classify.neighbours import ANOTHER, HOLD, MOST_ADDRESSES, MOST_OF_A_DEVICE, THE_SAME, Neighbours
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND

NEAR = AddressSet([(bytes([10, 7, 0, 0]), bytes([10, 7, 255, 255])), (b"\xfd" + bytes(15), b"\xfd" + b"\xff" * 15)])
V4, OTHER4 = bytes([10, 7, 0, 9]), bytes([10, 7, 0, 10])
V6 = b"\xfd" + bytes(14) + b"\x09"
PHONE, TABLET = bytes([2, 0, 0, 0, 0, 1]), bytes([2, 0, 0, 0, 0, 2])


def test_all_near_addresses_of_a_device_stand_for_its_first_of_ipv4() -> None:
    known = Neighbours(near=NEAR)
    assert not known.learn(V6, PHONE, 0)
    assert known.host(V6) == V6
    assert known.learn(V4, PHONE, 0)  # what was sorted by the other address is to be sorted again
    assert (known.host(V6), known.host(V4)) == (V4, V4)
    assert not known.learn(OTHER4, TABLET, 0)
    assert known.host(OTHER4) == OTHER4


def test_addresses_behind_another_router_are_hosts_of_their_own() -> None:
    known = Neighbours(near=NEAR)
    far = [bytes([10, 9, 0, number]) for number in (1, 2)]
    for address in far:
        assert not known.learn(address, PHONE, 0)
    assert [known.host(address) for address in far] == [b"", b""]
    assert known.hardware(far[0]) == PHONE


def test_an_address_that_two_claim_changes_hands_once_in_a_while_and_no_more() -> None:
    known = Neighbours(near=NEAR)
    learnt = Counter(known.learn(V4, (PHONE, TABLET)[n % 2], n * SECOND // 1000) for n in range(60_000))
    assert learnt == {THE_SAME: 30_000, ANOTHER: 30_000}
    assert known.hardware(V4) == PHONE
    known.learn(V4, TABLET, 60 * SECOND + HOLD)
    assert known.hardware(V4) == TABLET
    # Behind another router, packets may come by one or the other.
    far = bytes([10, 9, 0, 1])
    assert {known.learn(far, (PHONE, TABLET)[n % 2], n) for n in range(4)} == {THE_SAME}
    assert not Neighbours().learn(V4, PHONE, 0)


def test_a_device_that_takes_ever_new_addresses_stays_one_host_and_takes_no_room() -> None:
    known = Neighbours(near=NEAR)
    known.learn(V4, TABLET, 0)
    known.learn(OTHER4, PHONE, 0)
    for number in range(100_000):
        known.learn(b"\xfd" + number.to_bytes(15), PHONE, number)
        assert known.host(b"\xfd" + number.to_bytes(15)) == OTHER4
    assert len(known._known) <= MOST_OF_A_DEVICE + 1
    assert known.host(V4) == V4
    for number in range(MOST_ADDRESSES + 10):
        known.learn(b"\xfd\x01" + number.to_bytes(14), number.to_bytes(6), 0)
    assert len(known._known) <= MOST_ADDRESSES >= len(known._devices)


@pytest.mark.parametrize("first", [0, 1])
def test_a_network_that_has_another_prefix_is_limited_as_before(small_plan: Callable[..., Plan], first: int) -> None:
    """Each device is a host still, known by the address that it had, or by one of the new ones."""
    site = build_site(
        small_plan(("limiters:", "limiters:\n  each: {local: house, per: host, up: 1 Mbit/s}")), lambda _: None
    )
    shaper = site.shapers["line", "up"]
    moved = [bytes.fromhex("20010db80009") + bytes(9) + bytes([number]) for number in range(4)]
    site.neighbours.look_near(AddressSet([*NEAR, (moved[0], moved[-1])]))
    near = {PHONE: [moved[0], V4] if first else [V4, moved[0]], TABLET: moved[1:3], None: moved[3:]}

    def bucket(address: bytes, hardware: bytes | None) -> object:
        if hardware is not None:
            site.learn(address, hardware, 0)
        conversation = Conversation(key_of(Parties(17, address, bytes(len(address)), 7, 9)))
        conversation.home = b"" if address == V4 else bytes([10, 7, 0, 0])
        (found,) = shaper.flow_path(conversation, 0, 100, 0).buckets
        held.append(conversation)
        return found

    held: list[Conversation] = []
    for hardware, addresses in near.items():
        for address in addresses:
            bucket(address, hardware)
    buckets = [{bucket(address, hardware) for address in addresses} for hardware, addresses in near.items()]
    assert [len(one) for one in buckets] == [1, 1, 1] and len(set.union(*buckets)) == 3
    assert bucket(bytes([10, 9, 9, 9]), None) in buckets[2]  # of whom nothing is known, nor of that one


def test_a_guest_who_was_in_the_house_before_is_limited_as_a_guest(small_plan: Callable[..., Plan]) -> None:
    site = build_site(small_plan(), lambda _: None)
    site.neighbours.look_near(NEAR)
    stranger, guest = bytes([10, 7, 3, 3]), bytes([10, 7, 1, 9])
    buckets = []
    for address in (V4, stranger, guest):
        site.learn(address, PHONE, 0)
        conversation = Conversation(key_of(Parties(17, address, bytes(4), 7, 9)))
        conversation.home = bytes([10, 7, 1, 0]) if address == stranger else b""
        buckets.append(site.shapers["line", "down"].flow_path(conversation, 0, 100, 0).buckets)
    assert buckets[0] == () and len(buckets[1]) == 1 and buckets[1] == buckets[2]


def test_behind_a_repeater_each_address_is_a_host_if_the_plan_says_so() -> None:
    addresses = [bytes([10, 7, 1, host]) for host in range(1, 6)]
    network = AddressSet([(bytes([10, 7, 1, 0]), bytes([10, 7, 1, 255]))])
    for apart in (AddressSet(), network):
        known = Neighbours(near=network, networks=[network], apart=apart)
        for address in addresses:
            known.learn(address, PHONE, 0)
        assert {known.hardware(address) for address in addresses} == {PHONE}
        hosts = {known.host(address) or address for address in addresses}
        assert hosts == (set(addresses) if apart else {addresses[0]})
        assert [many for _, _, many in known.shared()] == ([] if apart else [5])


@given(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 3), st.integers(0, 40)), max_size=60))
def test_what_is_known_agrees_with_itself_whatever_hosts_claim(claims: list[tuple[int, int, int]]) -> None:
    known, now = Neighbours(near=NEAR), 0
    addresses = [V4, OTHER4, V6, b"\xfd" + bytes(15), bytes([10, 9, 0, 1]), bytes([10, 7, 3, 3])]
    for address, device, later in claims:
        now += later * SECOND
        known.learn(addresses[address], bytes([2, 0, 0, 0, 0, device]), now)
    for address in addresses:
        host, hardware = known.host(address), known.hardware(address)
        assert not host or known.hardware(host) == hardware
        assert known.host(host) == host
