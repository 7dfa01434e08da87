"""The comparable quantities of a result, with names."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

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
    samples the figure is exact. For a proportion, `of` is the sample size.
    """

    name: str
    unit: Unit
    value: float | None
    statistic: Statistic = "mean"
    samples: tuple[float, ...] = ()
    of: int = 0


Result: TypeAlias = dict[str, Quantity]


class NothingToCompareError(ValueError):
    """It is no result that can be compared; says what would be."""


def of_plan(plan: Plan) -> Result:
    """For a plan: the rate of each queue while all are full."""
    found = {}
    for uplink in plan.uplinks:
        for way in DIRECTIONS:
            for path, share in split(resolve(plan, uplink, way), {}).items():
                name = f"{uplink.name} {way}, {path or 'the line'}"
                found[name] = Quantity(name, "bit/s", share.rate)
    return found


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


def _named(quantities: Iterator[Quantity]) -> Result:
    return {one.name: one for one in quantities}


def _of_line(data: Mapping[str, Any]) -> Iterator[Quantity]:
    idle = data.get("idle") or {}
    if idle.get("p50") is not None:
        yield Quantity("idle round trip", "ns", idle["p50"], "p50", _samples(idle.get("trips")))
    for way in DIRECTIONS:
        one = data.get(way) or {}
        rate, loaded = one.get("data") or {}, one.get("loaded") or {}
        if rate:
            yield Quantity(f"data {way}", "bit/s", rate["rate"], "mean", _samples(rate.get("steps")))
        waits = _samples(one.get("delays"))
        for statistic in ("p50", "p95", "p99") if waits else ():
            yield Quantity(f"delay {way} under load, {statistic}", "ns", None, statistic, waits)
        if one.get("round_trips_a_minute") is not None:
            yield Quantity(f"round trips under load {way}", "a minute", one["round_trips_a_minute"])
        lost = loaded.get(f"lost_{way}")
        if lost is not None and loaded.get("sent"):
            yield Quantity(f"lost {way} under load", "share", lost / loaded["sent"], of=loaded["sent"])


def _of_lab(rows: Sequence[Mapping[str, Any]]) -> Iterator[Quantity]:
    for row in rows:
        name = f"{row['name']}, {row['way']}"
        if row["kind"] in ("download", "upload"):
            yield Quantity(f"{name}: data", "bit/s", row["goodput"])
        if row.get("p50") is not None and "delays" not in row:
            raise NothingToCompareError(
                "has no individual delays, so noise cannot be ruled out: print it with `--json --delays`"
            )
        delays = _samples(row.get("delays"))
        for statistic in ("p50", "p99"):
            if row.get(statistic) is not None:
                yield Quantity(f"{name}: {statistic}", "ns", row[statistic], statistic, delays)
        if row["kind"] in ("call", "ping"):
            yield Quantity(f"{name}: lost", "share", row["loss"], of=row["sent"])


def _of_proofs(rows: Sequence[Mapping[str, Any]]) -> Iterator[Quantity]:
    for row in rows:
        name = f"{row['promise']} {row['name']}, {row['where']}"
        if row.get("rate") is not None:
            yield Quantity(name, "bit/s", row["rate"])
        if row.get("p95") is not None:
            yield Quantity(f"{name}: p95", "ns", row["p95"] * 1e9, "p95")


def _samples(values: Any) -> tuple[float, ...]:
    return tuple(float(value) for value in values) if isinstance(values, list) else ()
