from wily_sluice.engine.framing import ETHERNET


def test_a_packet_is_charged_its_frame_and_none_is_shorter_than_64_bytes() -> None:
    assert [ETHERNET.cost(length) for length in (1500, 100, 40)] == [1518, 118, 64]


def test_a_large_offloaded_packet_is_charged_all_the_frames_that_it_becomes() -> None:
    # Ten full segments of 1448 bytes, and ten with one of 100 behind them; each frame repeats 52 bytes and adds 18.
    assert ETHERNET.cost_when_cut(10 * 1448 + 52, 52) == 10 * 1518
    assert ETHERNET.cost_when_cut(10 * 1448 + 100 + 52, 52) == 10 * 1518 + 170
