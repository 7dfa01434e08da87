"""Advice for a plan from measurements of a line: rates, headroom and framing, with the arithmetic."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wily_sluice.engine.framing import Framing
from wily_sluice.gauge.estimates import Estimate, Sized
from wily_sluice.gauge.line import Measured
from wily_sluice.plan.file.framings import parse_stack
from wily_sluice.plan.model import FramingWords
from wily_sluice.units import DIRECTIONS, Direction, Rate, format_rate

USUAL_FRAMING = "ethernet"
LEAST_HEADROOM, MOST_HEADROOM = 0.05, 0.3  # of the line
LEVEL = 0.0005  # a fall that would be printed as nothing
TENTH = 10  # percentile, of a line that varies
FIGURES = 3


@dataclass(frozen=True, slots=True)
class Advice:
    """Keys of an uplink, and how each was worked out."""

    rates: dict[Direction, Rate]
    headroom: float
    framing: str
    steps: tuple[str, ...]


def advice(measurements: Sequence[Measured], known: FramingWords | None = None) -> Advice | None:
    """From one measurement, or the tenth percentile of several; None where no rate was measured.

    A framing that is `known` stays, unless the measurement refutes it.
    """
    framing, costs, steps = _framing(measurements, known)
    rates: dict[Direction, Rate] = {}
    shakes = []
    for way in DIRECTIONS:
        found = [(one, one.ways[way].data) for one in measurements]
        lines = []
        for one, data in found:
            if data is None:
                continue
            lines.append(_sized(one, way, data).line(costs))
            shakes.append(1 - float(np.percentile(data.steps, TENTH)) / data.rate)
        if not lines:
            continue
        rate = float(np.percentile(lines, TENTH))
        rates[way] = _rounded_down(rate)
        one, data = next((one, data) for one, data in found if data is not None)
        packet = one.segment + one.headers
        if len(lines) == 1:
            steps.append(
                f"{way}: {format_rate(round(data.rate))} of data × {costs.cost(packet):,} bytes on the line for "
                f"{one.segment:,} of data, and the test packets = {format_rate(round(rate))}"
            )
        else:
            steps.append(
                f"{way}: the tenth percentile of {len(lines)} measurements, from {format_rate(round(min(lines)))} to "
                f"{format_rate(round(max(lines)))}, is {format_rate(round(rate))}"
            )
    if not rates:
        return None
    shake = max(shakes)
    headroom = min(MOST_HEADROOM, max(LEAST_HEADROOM, round(shake + 0.005, 2)))
    why = "the least that lets the queue form here" if headroom == LEAST_HEADROOM else "as far as the rate falls"
    steps.append(
        f"headroom {headroom:.0%}: {why}; "
        + (
            f"in the slowest tenth of the half seconds the rate was {shake:.1%} below its mean"
            if shake > LEVEL
            else "the rate is steady"
        )
    )
    return Advice(rates, headroom, framing, tuple(steps))


def line_rates(one: Measured) -> dict[Direction, float]:
    """The line's rates in bit/s from a single measurement."""
    framing = _framing([one], None)[1]
    found = {way: own.data for way, own in one.ways.items()}
    return {way: _sized(one, way, data).line(framing) for way, data in found.items() if data is not None}


def _sized(one: Measured, way: Direction, data: Estimate) -> Sized:
    return Sized(one.segment, one.headers, data.rate, one.ways[way].beside)


def _rounded_down(rate: float) -> Rate:
    """To three figures."""
    unit = 10 ** max(0, len(str(int(rate))) - FIGURES)
    return max(1, int(rate // unit * unit))


def _framing(measurements: Sequence[Measured], known: FramingWords | None) -> tuple[str, Framing, list[str]]:
    one = next((one for one in measurements if one.framings), None)
    if one is None:
        if known is not None:
            return known.words, known.framing, ["framing: not measured; the plan's is taken"]
        return USUAL_FRAMING, parse_stack(USUAL_FRAMING).framing, ["framing: not measured; ethernet is taken"]
    if known is not None and any(parse_stack(fit.words).framing == known.framing for fit in one.framings):
        return known.words, known.framing, [f"framing: {known.words}, as in the plan, fits the measurement"]
    best = one.framings[0]
    also = [fit.words for fit in one.framings[1:4]]
    sizes = ", ".join(f"{segment:,}" for segment, *_ in one.sizes)
    told = f"framing: rates of data with {sizes} payload bytes per packet agree on one line rate, within "
    told += f"{best.spread:.1%}, by {best.words}"
    return best.words, parse_stack(best.words).framing, [told + (f"; as well by {', '.join(also)}" if also else "")]
