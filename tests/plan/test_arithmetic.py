"""A second computation of what the program says of a plan, in fractions, over plans that are drawn."""

import tempfile
from fractions import Fraction
from math import ceil
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wily_sluice.forecast.split import split
from wily_sluice.forecast.why import waits
from wily_sluice.outside.files import examine
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS
from wily_sluice.views.plan.limiters import hosts_that_fill

HEAD = """\
site: Drawn
uplinks: {{line: {{interface: wan0, down: {down} kbit/s, up: {up} kbit/s, headroom: {headroom}%}}}}
networks: {{house: {{interface: lan0, subnets: [10.7.0.0/24]}}}}
limiters: {{each: {{local: house, per: host, {limiter}}}}}
trees:
  main:
    queues:
"""
FRAME = 1518  # bytes: a packet of 1500 in Ethernet, with its header of 14 and its check of 4


@st.composite
def queues(draw: st.DrawFn) -> list[tuple[int, int, int, int]]:
    """Of each leaf: guarantee and cap in percent, priority, weight."""
    leaf = st.tuples(st.integers(0, 40), st.integers(41, 100), st.integers(1, 9), st.integers(1, 9))
    return draw(st.lists(leaf, min_size=1, max_size=5))


def level(leaves: list[tuple[int, int, int, int]], usable: Fraction) -> list[Fraction]:
    """What each leaf gets when all are hungry: guarantees; then, priority by priority, by weight up to the caps."""
    has = [usable * guarantee / 100 for guarantee, *_ in leaves]
    caps = [usable * cap / 100 for _, cap, *_ in leaves]
    left = usable - sum(has)
    for priority in range(1, 10):
        open_ = [n for n, leaf in enumerate(leaves) if leaf[2] == priority]
        while open_ and left > 0:
            # Raise all by weight until the first is full; and again with the others.
            weight = sum(leaves[n][3] for n in open_)
            step = min(left / weight, min((caps[n] - has[n]) / leaves[n][3] for n in open_))
            for n in open_:
                has[n] += step * leaves[n][3]
            left -= step * weight
            open_ = [n for n in open_ if has[n] < caps[n]]
    return has


@given(queues(), st.integers(500, 900_000), st.integers(500, 900_000), st.integers(2, 30), st.integers(40, 400_000))
def test_rates_waits_bursts_and_overbooking_are_what_arithmetic_says(
    leaves: list[tuple[int, int, int, int]], down: int, up: int, headroom: int, cap: int
) -> None:
    text = HEAD.format(down=down, up=up, headroom=headroom, limiter=f"down: {cap} kbit/s")
    for number, (guarantee, most, priority, weight) in enumerate(leaves):
        default = ", default: true" if number == 0 else ""
        rates = f"guarantee: {guarantee}%, cap: {most}%, priority: {priority}, weight: {weight}"
        text += f"      q{number}: {{{rates}{default}}}\n"
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "sluice.yaml"
        file.write_text(text)
        plan, findings = examine(file)
    booked = sum(guarantee for guarantee, *_ in leaves)
    assert (plan is None) == (booked > 100), findings
    if plan is None:
        assert any(f"add up to {booked}%" in finding.message for finding in findings)
        return
    uplink = plan.uplinks[0]
    for direction, measured in zip(DIRECTIONS, (down, up), strict=True):
        usable = Fraction(measured * 1000) * (100 - headroom) / 100
        assert uplink.usable(direction) == pytest.approx(float(usable), abs=1)
        assert uplink.goodput(uplink.usable(direction)) == pytest.approx(float(usable * 1448 / FRAME), rel=1e-6)
        spec = resolve(plan, uplink, direction)
        shares, wait = split(spec, {}), waits(spec)
        for number, rate in enumerate(level(leaves, usable)):
            assert shares[f"q{number}"].rate == pytest.approx(float(rate), rel=1e-6, abs=len(leaves) + 2)
            full, settled = wait[f"q{number}"].full, wait[f"q{number}"].settled
            if rate > 1000:
                # A leaf holds a second at its cap, at least 128 frames; at most 10,240 of them (RFC 8290 §5.2.1).
                most = max(128 * FRAME, usable * leaves[number][1] / 100 / 8)
                held = min(most, 10_240 * FRAME)
                assert full == pytest.approx(float(held * 8 / rate * 10**9), rel=0.01)
                two = Fraction(2 * FRAME * 8 * 10**9) / rate
                assert settled is None or (settled >= float(two) * 0.99 and settled < full)
        if direction == "down":
            limiter, asked = plan.limiters[0], cap * 1000
            assert limiter.burst_of(asked) == pytest.approx(max(4 * FRAME, asked / 8 / 50), abs=1)
            assert hosts_that_fill(uplink, direction, asked) in (ceil(usable / asked), ceil((usable - 1) / asked))


@given(st.integers(1, 900_000), st.integers(1, 900), st.sampled_from(["day", "week", "month"]))
def test_a_quota_with_a_rate_that_moves_more_in_its_period_is_told_with_both(
    kbit: int, gigabytes: int, per: str
) -> None:
    seconds = {"day": 86_400, "week": 7 * 86_400, "month": 30 * 86_400}[per]
    text = HEAD.format(
        down=10**6, up=10**6, headroom=8, limiter=f"down: {kbit} kbit/s, quota: {gigabytes} GB per {per}"
    )
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "sluice.yaml"
        file.write_text(text + "      all: {default: true}\n")
        _, findings = examine(file)
    moved = Fraction(kbit * 1000 * seconds, 8)
    told = [finding for finding in findings if finding.key.endswith("quota")]
    assert bool(told) == (moved > gigabytes * 10**9)
