"""The comparable quantities of results, and the differences of two results.

Successive samples are similar: a full buffer stays full for a while. So both results are resampled in blocks, many
times (the block bootstrap: Künsch 1989); a difference is beyond the noise if 95% of the resamples agree on its sign.
Proportions are compared by the interval of their difference (Newcombe 1998, method 10). Quantities without samples are
exact, and differ from half a percent on; a goodput of the lab has one sample for each part of the run.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import sqrt
from typing import Any, Literal, TypeAlias

import numpy as np

from wily_sluice.bootstrap import bootstrap
from wily_sluice.forecast.split import split
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS

Unit: TypeAlias = Literal["bit/s", "ns", "share", "a minute"]
Statistic: TypeAlias = Literal["mean", "p50", "p95", "p99"]
MORE_IS_BETTER: dict[Unit, bool] = {"ns": False, "share": False, "a minute": True}


@dataclass(frozen=True, slots=True)
class Quantity:
    """One figure. `samples` are its data in the order of time, and `statistic` the function applied to them; without
    samples the figure is exact. For a proportion, `of` is the sample size. `line` is the uplink, where there may be
    several.
    """

    name: str
    unit: Unit
    value: float | None
    statistic: Statistic = "mean"
    samples: tuple[float, ...] = ()
    of: int = 0
    line: str = ""


Result: TypeAlias = dict[tuple[str, str, int], Quantity]  # by name, uplink, and which of those with both


class NothingToCompareError(ValueError):
    """It is no result that can be compared; says what would be."""


def of_plan(plan: Plan) -> Result:
    """For a plan: the rate of each queue while all are full."""
    quantities = []
    for uplink in plan.uplinks:
        for way in DIRECTIONS:
            for path, share in split(resolve(plan, uplink, way), {}).items():
                name = f"{uplink.name} {way}, {path or 'the line'}"
                quantities.append(Quantity(name, "bit/s", share.rate))
    return _named(quantities)


def of_data(data: Any, part: str = "after") -> Result:
    """From a command's --json output; for a run of the lab, the part `before` or `after`."""
    if isinstance(data, dict):
        if isinstance(data.get("measurements"), list) and data["measurements"]:
            return _named(_of_line(data["measurements"][-1]))
        if isinstance(data.get("before"), list) and isinstance(data.get("after"), list):
            return _named(_of_lab(data[part]))
        if isinstance(data.get("promises"), list):
            return _named(_of_proofs(data["promises"]))
    raise NothingToCompareError(
        "it is none of: a plan, or the JSON of `gauge line`, `lab run` or `prove` (with --json)"
    )


def has_parts(data: Any) -> bool:
    """Whether a result has both a before and an after."""
    return isinstance(data, dict) and isinstance(data.get("before"), list) and isinstance(data.get("after"), list)


def _named(quantities: Iterable[Quantity]) -> Result:
    """Each under a key of its own: two applications may have one name."""
    result: Result = {}
    seen: Counter[tuple[str, str]] = Counter()
    for quantity in quantities:
        seen[quantity.name, quantity.line] += 1
        result[quantity.name, quantity.line, seen[quantity.name, quantity.line]] = quantity
    return result


def _of_line(data: Mapping[str, Any]) -> Iterator[Quantity]:
    idle = data.get("idle") or {}
    if idle.get("p50") is not None:
        yield Quantity("idle round trip", "ns", idle["p50"], "p50", _samples(idle.get("trips")))
    for way in DIRECTIONS:
        line = data.get(way) or {}
        rate, loaded = line.get("data") or {}, line.get("loaded") or {}
        if rate:
            yield Quantity(f"data {way}", "bit/s", rate["rate"], "mean", _samples(rate.get("steps")))
        waits = _samples(line.get("delays"))
        for statistic in ("p50", "p95", "p99") if waits else ():
            yield Quantity(f"delay {way} under load, {statistic}", "ns", None, statistic, waits)
        if line.get("round_trips_a_minute") is not None:
            yield Quantity(f"round trips under load {way}", "a minute", line["round_trips_a_minute"])
        lost = loaded.get(f"lost_{way}")
        if lost is not None and loaded.get("sent"):
            yield Quantity(f"lost {way} under load", "share", lost / loaded["sent"], of=loaded["sent"])


def _of_lab(rows: Sequence[Mapping[str, Any]]) -> Iterator[Quantity]:
    for row in rows:
        name = f"{row['name']}, {row['way']}"
        line = row.get("uplink", "")
        if row["kind"] in ("download", "upload"):
            yield Quantity(f"{name}: data", "bit/s", row["goodput"], "mean", _samples(row.get("rates")), line=line)
        if row.get("p50") is not None and "delays" not in row:
            raise NothingToCompareError(
                "has no individual delays, so noise cannot be ruled out: print it with `--json --delays`"
            )
        delays = _samples(row.get("delays"))
        for statistic in ("p50", "p99"):
            if row.get(statistic) is not None:
                yield Quantity(f"{name}: {statistic}", "ns", row[statistic], statistic, delays, line=line)
        if row["kind"] in ("call", "ping"):
            yield Quantity(f"{name}: lost", "share", row["loss"], of=row["sent"], line=line)


def _of_proofs(rows: Sequence[Mapping[str, Any]]) -> Iterator[Quantity]:
    for row in rows:
        name = f"{row['promise']} {row['name']}, {row['where']}"
        if row.get("rate") is not None:
            yield Quantity(name, "bit/s", row["rate"])
        if row.get("p95") is not None:
            yield Quantity(f"{name}: p95", "ns", row["p95"] * 1e9, "p95")


def _samples(values: Any) -> tuple[float, ...]:
    return tuple(float(value) for value in values) if isinstance(values, list) else ()


BLOCK = 25  # samples
DRAWS = 1000
CONFIDENCE = 0.95
EXACT = 0.005  # of the larger: what is exact and differs by no more is the same
Z = 1.959964  # of a normal distribution, for CONFIDENCE
PERCENTILES = {"p50": 50, "p95": 95, "p99": 99}


@dataclass(frozen=True, slots=True)
class Difference:
    """One quantity in both results. `low` and `high` are where the difference is, B less A, with CONFIDENCE; None where
    both are exact. `beyond` says that it is beyond the noise, and `better` that B is the better one then; that is None
    of a rate, since a plan may want less of something. `samples` are those of B.
    """

    quantity: Quantity
    a: float | None
    b: float | None
    low: float | None
    high: float | None
    beyond: bool
    better: bool | None
    samples: tuple[float, ...] = ()


def differences(a: Result, b: Result) -> list[Difference]:
    """For all quantities in both, in the order of the first; then those in only one."""
    several = len({line for _, line, _ in (*a, *b)} - {""}) > 1
    a, b = ({key: _called(key, quantity, several) for key, quantity in result.items()} for result in (a, b))
    result = [_difference(a[name], b[name]) for name in a if name in b]
    result += [
        Difference(quantity, _value(quantity), None, None, None, True, None)
        for name, quantity in a.items()
        if name not in b
    ]
    result += [
        Difference(quantity, None, _value(quantity), None, None, True, None)
        for name, quantity in b.items()
        if name not in a
    ]
    return result


def _called(key: tuple[str, str, int], quantity: Quantity, several: bool) -> Quantity:
    """By a name that tells it from all others of the two results: its uplink if there are several, and its number."""
    name, line, number = key
    subject, _, statistic = name.rpartition(": ")
    where = f" over {line}" if several and line else ""
    which = f" ({number})" if number > 1 else ""
    return replace(quantity, name=f"{subject}{where}{which}: {statistic}" if subject else f"{name}{where}{which}")


def _difference(a: Quantity, b: Quantity) -> Difference:
    first, other = _value(a), _value(b)
    if first is None or other is None:
        return Difference(a, first, other, None, None, first != other, None)
    low: float | None = None
    high: float | None = None
    if a.samples and b.samples:
        low, high = _interval(a.samples, b.samples, a.statistic)
    elif a.of and b.of:
        low, high = _of_shares(first, a.of, other, b.of)
    if low is None or high is None:
        beyond = abs(other - first) > EXACT * max(abs(first), abs(other))
    else:
        beyond = low > 0 or high < 0
    better = (
        (other > first) == MORE_IS_BETTER[a.unit] if beyond and other != first and a.unit in MORE_IS_BETTER else None
    )
    return Difference(a, first, other, low, high, beyond and other != first, better, b.samples)


def _value(quantity: Quantity) -> float | None:
    if quantity.value is not None or not quantity.samples:
        return quantity.value
    return _taken(np.asarray(quantity.samples, dtype=np.float64), quantity.statistic)


def _taken(samples: "np.ndarray[tuple[int, ...], np.dtype[np.float64]]", statistic: Statistic) -> float:
    return float(samples.mean() if statistic == "mean" else np.percentile(samples, PERCENTILES[statistic]))


def _interval(a: Sequence[float], b: Sequence[float], statistic: Statistic) -> tuple[float, float]:
    """The interval of the difference, by resampled blocks."""
    blocks = [_blocks(samples) for samples in (a, b)]

    def difference(
        of_a: "np.ndarray[tuple[int], np.dtype[np.int64]]", of_b: "np.ndarray[tuple[int], np.dtype[np.int64]]"
    ) -> float:
        first, other = (
            np.concatenate([own[index] for index in drawn]) for own, drawn in zip(blocks, (of_a, of_b), strict=True)
        )
        return _taken(other, statistic) - _taken(first, statistic)

    indices = [np.arange(len(own)) for own in blocks]
    if any(len(values) < 2 for values in indices):
        exact = difference(*indices)
        return exact, exact
    return bootstrap(indices, difference, DRAWS, CONFIDENCE)


def _blocks(samples: Sequence[float]) -> "list[np.ndarray[tuple[int, ...], np.dtype[np.float64]]]":
    """Samples that follow each other; of few samples, each alone."""
    values = np.asarray(samples, dtype=np.float64)
    size = BLOCK if len(values) >= 8 * BLOCK else 1
    return [values[first : first + size] for first in range(0, len(values), size)]


def _of_shares(a: float, of_a: int, b: float, of_b: int) -> tuple[float, float]:
    """Where the difference of two shares is: B less A."""
    low_a, high_a = _wilson(a, of_a)
    low_b, high_b = _wilson(b, of_b)
    low = b - a - sqrt((b - low_b) ** 2 + (high_a - a) ** 2)
    return low, b - a + sqrt((high_b - b) ** 2 + (a - low_a) ** 2)


def _wilson(share: float, of: int) -> tuple[float, float]:
    """Where a share is (Wilson 1927)."""
    middle = share + Z * Z / (2 * of)
    half = Z * sqrt(share * (1 - share) / of + Z * Z / (4 * of * of))
    whole = 1 + Z * Z / of
    return (middle - half) / whole, (middle + half) / whole
