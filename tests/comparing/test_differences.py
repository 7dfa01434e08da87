"""Two results of one kind side by side: what differs beyond the noise, and what does not."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from wily_sluice.comparing import NothingToCompareError, Quantity, _of_shares, differences, of_data, of_plan
from wily_sluice.plan.model import Plan


def autocorrelated(draw: np.random.Generator, count: int, mean: float) -> tuple[float, ...]:
    """Waits that are alike for some time, as those in a buffer are."""
    values, now = [], 0.0
    for _ in range(count):
        now = 0.9 * now + draw.normal(0, 1)
        values.append(mean + 5 * now)
    return tuple(values)


@pytest.mark.parametrize(("shift", "least", "most"), [(0.0, 0, 12), (25.0, 36, 40)])
def test_noise_is_not_taken_for_a_difference_nor_a_difference_for_noise(shift: float, least: int, most: int) -> None:
    draw = np.random.default_rng(3)
    told = 0
    for _ in range(40):
        one, other = autocorrelated(draw, 1000, 100), autocorrelated(draw, 1000, 100 + shift)
        a, b = ({("wait", "", 1): Quantity("wait", "ns", None, "mean", samples)} for samples in (one, other))
        (found,) = differences(a, b)
        told += found.beyond
        assert found.low is not None and found.high is not None and found.low <= found.high
        if found.beyond:
            assert found.better == (found.b is not None and found.a is not None and found.b < found.a)
    assert least <= told <= most


def test_the_interval_of_two_shares_is_that_of_its_source() -> None:
    # Newcombe 1998, table II, case (a): 56 of 70 and 48 of 80, method 10.
    low, high = _of_shares(48 / 80, 80, 56 / 70, 70)
    assert (round(low, 4), round(high, 4)) == (0.0524, 0.3339)


def test_two_plans_differ_by_what_their_queues_get(small_plan: Callable[..., Plan]) -> None:
    a, b = of_plan(small_plan()), of_plan(small_plan(("guarantee: 20%", "guarantee: 20%, cap: 25%")))
    found = {one.quantity.name: one for one in differences(a, b) if one.beyond}
    # 25% of 18 Mbit/s; before, the first priority took all of it but what the default needs no guarantee for.
    assert found["line down, calls"].b == 4_500_000 and found["line down, calls"].better is None
    assert found["line down, rest"].b == 13_500_000 and "line down, the line" not in found


def test_what_is_in_one_of_them_alone_is_told_and_what_is_no_result_refused() -> None:
    def proofs(*rates: float) -> dict[str, Any]:
        rows = [{"promise": "cap", "name": f"q{n}", "where": "line up", "rate": rate} for n, rate in enumerate(rates)]
        return {"promises": rows}

    found = differences(of_data(proofs(1e6, 2e6)), of_data(proofs(1.001e6)))
    assert [(one.beyond, one.b is None) for one in found] == [(False, False), (True, True)]
    with pytest.raises(NothingToCompareError, match="none of: a plan"):
        of_data([1, 2])


def lab(*rows: tuple[str, str, float, float]) -> dict[str, Any]:
    """A run of downloads: name, uplink, goodput in bit/s, and by how much it varies from one part to the next."""
    drawn = np.random.default_rng(len(rows))
    common = {"kind": "download", "way": "down", "p50": None, "p99": None}
    after = [
        {**common, "name": name, "uplink": line, "goodput": rate, "rates": list(drawn.normal(rate, rate * varies, 40))}
        for name, line, rate, varies in rows
    ]
    return {"before": [], "after": after}


def test_applications_of_one_name_and_on_two_uplinks_are_told_apart() -> None:
    first = lab(("film", "fibre", 9e6, 0.0), ("film", "mobile", 2e6, 0.0), ("film", "fibre", 4e6, 0.0))
    other = lab(("film", "fibre", 9e6, 0.0), ("film", "mobile", 1e6, 0.0), ("film", "fibre", 3e6, 0.0))
    found = {one.quantity.name: one for one in differences(of_data(first), of_data(other))}
    names = ["film, down over fibre: data", "film, down over mobile: data", "film, down over fibre (2): data"]
    assert list(found) == names
    assert [found[name].beyond for name in names] == [False, True, True]
    one_line = differences(of_data(lab(("film", "fibre", 9e6, 0.0))), of_data(lab(("film", "fibre", 8e6, 0.0))))
    assert [one.quantity.name for one in one_line] == ["film, down: data"]


def test_a_goodput_that_varies_more_than_it_differs_is_within_the_noise() -> None:
    (noise,) = differences(of_data(lab(("a", "l", 9e6, 0.3))), of_data(lab(("a", "l", 9.1e6, 0.3))))
    assert noise.low is not None and not noise.beyond
    (clear,) = differences(of_data(lab(("a", "l", 9e6, 0.02))), of_data(lab(("a", "l", 8e6, 0.02))))
    assert clear.beyond
