"""What measurements of a line are worth: estimates of its rates, and advice for a plan."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wily_sluice.engine.packet import Framing
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
        pairs = [(measurement, measurement.ways[way].data) for measurement in measurements]
        lines = []
        for measured, data in pairs:
            if data is None:
                continue
            lines.append(_sized(measured, way, data).line(costs))
            shakes.append(1 - float(np.percentile(data.steps, TENTH)) / data.rate)
        if not lines:
            continue
        rate = float(np.percentile(lines, TENTH))
        rates[way] = _rounded_down(rate)
        measured, data = next((measured, data) for measured, data in pairs if data is not None)
        packet = measured.segment + measured.headers
        if len(lines) == 1:
            steps.append(
                f"{way}: {format_rate(round(data.rate))} of data × {costs.cost(packet):,} bytes on the line for "
                f"{measured.segment:,} of data, and the test packets = {format_rate(round(rate))}"
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


def line_rates(measured: Measured) -> dict[Direction, float]:
    """The line's rates in bit/s from a single measurement."""
    framing = _framing([measured], None)[1]
    rates = {way: own.data for way, own in measured.ways.items()}
    return {way: _sized(measured, way, data).line(framing) for way, data in rates.items() if data is not None}


def _sized(measured: Measured, way: Direction, data: Estimate) -> Sized:
    return Sized(measured.segment, measured.headers, data.rate, measured.ways[way].beside)


def _rounded_down(rate: float) -> Rate:
    """To three figures."""
    unit = 10 ** max(0, len(str(int(rate))) - FIGURES)
    return max(1, int(rate // unit * unit))


def _framing(measurements: Sequence[Measured], known: FramingWords | None) -> tuple[str, Framing, list[str]]:
    measurement = next((measurement for measurement in measurements if measurement.framings), None)
    if measurement is None:
        if known is not None:
            return known.words, known.framing, ["framing: not measured; the plan's is taken"]
        return USUAL_FRAMING, parse_stack(USUAL_FRAMING).framing, ["framing: not measured; ethernet is taken"]
    if known is not None and any(parse_stack(fit.words).framing == known.framing for fit in measurement.framings):
        return known.words, known.framing, [f"framing: {known.words}, as in the plan, fits the measurement"]
    best = measurement.framings[0]
    also = [fit.words for fit in measurement.framings[1:4]]
    sizes = ", ".join(f"{segment:,}" for segment, *_ in measurement.sizes)
    words = f"framing: rates of data with {sizes} payload bytes per packet agree on one line rate, within "
    words += f"{best.spread:.1%}, by {best.words}"
    return best.words, parse_stack(best.words).framing, [words + (f"; as well by {', '.join(also)}" if also else "")]
