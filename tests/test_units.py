import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.units import (
    Amount,
    exact_rate,
    format_rate,
    format_rate_both,
    format_time,
    parse_amount,
    parse_rate,
    parse_share,
    parse_size,
    parse_time,
    rates_apart,
)


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("180 Mbit/s", 180_000_000),
        ("24Mb/s", 24_000_000),
        ("3 MB/s", 24_000_000),
        ("512 kbps", 512_000),
        ("1 MBps", 8_000_000),
        ("1 mbps", 1_000_000),
        ("1.5 Gbit/s", 1_500_000_000),
        ("10 Mibit/s", 10 * 2**20),
        ("125 kbytes/s", 1_000_000),
        ("9600 bit/s", 9600),
    ],
)
def test_rates_are_decimal_and_a_capital_b_is_a_byte(text: str, rate: int) -> None:
    assert parse_rate(text) == rate


@pytest.mark.parametrize(
    ("text", "hint"),
    [
        ("24 MBPS", "24 Mbit/s or 24 MB/s"),
        (180, "180 Mbit/s, or 180 kbit/s"),
        ("24 Mbit", "24 Mbit/s"),
        ("fast", "write it like"),
        ("0 Mbit/s", "at least 1 bit/s"),
        ("5000 Gbit/s", "is the prefix right"),
        (True, "24 Mbit/s"),
        (None, "24 Mbit/s"),
    ],
)
def test_what_could_mean_two_rates_is_refused_with_both_readings(text: object, hint: str) -> None:
    with pytest.raises(ValueError, match=hint):
        parse_rate(text)


@given(st.integers(1, 9999), st.sampled_from([1, 10**3, 10**6, 10**9 // 100]))
def test_an_exact_rate_is_read_back_as_it_was_written(figure: int, scale: int) -> None:
    assert parse_rate(exact_rate(figure * scale)) == figure * scale


@given(st.integers(1, 10**10), st.integers(1, 10**10))
def test_rates_that_differ_read_differently(rate: int, other: int) -> None:
    for one, two in ((rate, other), (rate, rate + 1)):
        told = rates_apart(one, two)
        assert (told[0] == told[1]) == (one == two)
        assert tuple(map(format_rate, (one, two))) in (told, (format_rate(one),) * 2)


def test_both_units_are_shown_where_people_mix_them() -> None:
    assert format_rate_both(24_000_000) == "24 Mbit/s (3 MB/s)"
    assert format_rate(999_960) == "1 Mbit/s"  # and not 1000 kbit/s


def test_shares_sizes_and_times() -> None:
    assert parse_share("12.5%") == 0.125
    assert parse_size("40 GB") == 40 * 10**9
    assert [parse_time(text) for text in ("10 ms", "2 s", "5 min", "250us")] == [10**7, 2 * 10**9, 3 * 10**11, 250_000]
    assert format_time(12_340_000) == "12.3 ms"
    with pytest.raises(ValueError, match="at most 100%"):
        parse_share("120%")


def test_an_amount_is_a_rate_or_a_share_of_the_whole() -> None:
    assert parse_amount("60%").of(11_040_000) == 6_624_000
    assert parse_amount("2 Mbit/s").of(1) == 2_000_000
    assert parse_amount("20%") == Amount(share=0.2)
