import pytest

from wily_sluice.engine.packet import ETHERNET, Framing
from wily_sluice.plan.file.framings import parse_stack, stacks


@pytest.mark.parametrize(
    ("words", "of_1500", "of_100", "of_40"),
    [
        ("ip", 1500, 100, 40),
        ("ethernet", 1518, 118, 64),  # 14 + 4
        ("ethernet on the wire", 1538, 138, 84),  # and 8 + 12
        ("ethernet over vlan", 1522, 122, 68),
        ("ethernet over vlan over vlan on the wire", 1546, 146, 92),  # 18 + 4 + 4 + 20, at least 64 + 4 + 4 + 20
        ("pppoe", 1526, 126, 66),  # and 6 + 2
        ("pppoe over ptm", 1554, 133, 72),  # 1530, 130 and 70, each times 65/64, rounded up
        ("pppoa over atm vc", 32 * 53, 3 * 53, 2 * 53),  # 1510, 110 and 50, in cells of 48
        ("pppoe over atm llc", 33 * 53, 3 * 53, 2 * 53),  # 14 + 8 + 10 + 8 = 40, so 1540, 140 and 80
        ("ip over atm vc", 32 * 53, 3 * 53, 53),  # 48 fits into one cell
        ("ethernet over cable", 1518, 118, 64),
    ],
)
def test_a_packet_is_charged_what_its_frames_or_cells_take(words: str, of_1500: int, of_100: int, of_40: int) -> None:
    stack = parse_stack(words)
    assert stack.words == words
    assert [stack.framing.cost(length) for length in (1500, 100, 40)] == [of_1500, of_100, of_40]


@pytest.mark.parametrize(
    ("said", "same"),
    [
        ("PPPoE over Ethernet over  VLAN over PTM", "pppoe over vlan over ptm"),
        ("vlan over ptm", "ethernet over vlan over ptm"),
        ("ip over ethernet over vlan", "ethernet over vlan"),
        ("pppoe over vlan over ethernet over atm vc", "pppoe over vlan over atm vc"),
    ],
)
def test_a_layer_that_is_implied_may_be_said_or_left_out(said: str, same: str) -> None:
    assert parse_stack(said) == parse_stack(same)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("pppoe over pmt", "did you mean “pppoe over ptm”"),
        ("pppoa over ptm", "did you mean “pppoe over ptm”"),
        ("pppoe over atm", "write atm llc or atm vc"),
        ("ethernet over vlan over vlan over vlan", "at most 2 VLAN tags"),
        ("vlan over pppoe", "did you mean “pppoe over vlan”"),
        ("ethernet over ptm on the wire", "did you mean “ethernet over ptm”"),
        ("ptm over pppoe", "did you mean “pppoe over ptm”"),
        ("pppoe over ethernet over ethernet", "did you mean “pppoe”"),
        ("ip over ptm", "did you mean “ethernet over ptm”"),
        ("satellite", "layers are ip, ethernet"),
        ("", "unknown layer"),
    ],
)
def test_layers_that_no_line_has_are_refused_with_the_nearest_that_there_are(said: str, told: str) -> None:
    with pytest.raises(ValueError, match=told):
        parse_stack(said)


def test_every_stack_is_read_back_as_it_is_written_and_costs_more_with_each_tag() -> None:
    every = list(stacks())
    assert [parse_stack(stack.words) for stack in every] == every
    for stack in every:
        for other in every:
            if (other.first, other.medium, other.wire) == (stack.first, stack.medium, stack.wire):
                assert (other.framing.overhead - stack.framing.overhead) == 4 * (other.tags - stack.tags)


def test_a_large_offloaded_packet_is_charged_all_the_frames_that_it_becomes() -> None:
    # Ten full segments of 1448 bytes, and ten with one of 100 behind them; each frame repeats 52 bytes and adds 18.
    assert ETHERNET.cost_when_cut(10 * 1448 + 52, 52) == 10 * 1518
    assert ETHERNET.cost_when_cut(10 * 1448 + 100 + 52, 52) == 10 * 1518 + 170


def test_what_no_line_has_is_refused() -> None:
    with pytest.raises(ValueError, match="no line has"):
        Framing(5000)
