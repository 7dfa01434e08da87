import pytest

from wily_sluice.engine.framing import ETHERNET, NAMED, Framing


@pytest.mark.parametrize(
    ("name", "of_1500", "of_100", "of_40"),
    [
        ("none", 1500, 100, 40),
        ("ethernet", 1518, 118, 64),  # 14 + 4
        ("ethernet on the wire", 1538, 138, 84),  # and 8 + 12
        ("ethernet over vlan", 1522, 122, 68),
        ("pppoe", 1526, 126, 66),  # and 6 + 2
        ("pppoe over ptm", 1554, 133, 72),  # 1530, 130 and 70, each times 65/64, rounded up
        ("pppoa over atm vc", 32 * 53, 3 * 53, 2 * 53),  # 1510, 110 and 50, in cells of 48
        ("pppoe over atm llc", 33 * 53, 3 * 53, 2 * 53),  # 14 + 8 + 10 + 8 = 40, so 1540, 140 and 80
        ("ip over atm vc", 32 * 53, 3 * 53, 53),  # 48 fits into one cell
        ("cable", 1518, 118, 64),
    ],
)
def test_a_packet_is_charged_what_its_frames_or_cells_take(name: str, of_1500: int, of_100: int, of_40: int) -> None:
    assert [NAMED[name].cost(length) for length in (1500, 100, 40)] == [of_1500, of_100, of_40]


def test_a_large_offloaded_packet_is_charged_all_the_frames_that_it_becomes() -> None:
    # Ten full segments of 1448 bytes, and ten with one of 100 behind them; each frame repeats 52 bytes and adds 18.
    assert ETHERNET.cost_when_cut(10 * 1448 + 52, 52) == 10 * 1518
    assert ETHERNET.cost_when_cut(10 * 1448 + 100 + 52, 52) == 10 * 1518 + 170


def test_what_no_line_has_is_refused() -> None:
    with pytest.raises(ValueError, match="no line has"):
        Framing(5000)
