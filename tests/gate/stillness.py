"""How long the machine itself stood still while something was measured, and what to make of it.

A shared or virtual machine may stop a processor for many milliseconds, whatever runs on it. A watcher on each
processor, above everybody else's priority, asks to be woken every millisecond and adds up what it was late. A
measurement that misses its mark while the machine stood still is repeated. On a machine that was not disturbed one
miss may be chance, since a measurement of seconds has an error of its own: it must then hold twice in a row.
"""

import multiprocessing
import os
import reprlib
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import TypeVar

import pytest

T = TypeVar("T")
PERIOD, LATE = 0.001, 0.001  # seconds
STILL = 0.001  # of the time that was measured: more than this, and the machine was disturbed
ATTEMPTS = 5
BUDGET = 20.0  # seconds that all repetitions of a run together may take, so that a bad day does not last for ever
_spent = [0.0]


def _watch(processor: int, report: Connection) -> None:
    os.sched_setaffinity(0, {processor})
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(50))
    stood_still, last = 0.0, time.monotonic()
    while not report.poll():
        time.sleep(PERIOD)
        now = time.monotonic()
        if now - last > PERIOD + LATE:
            stood_still += now - last - PERIOD
        last = now
    report.send(stood_still)


def stood_still_during(measure: Callable[[], T]) -> tuple[T, float]:
    """What was measured, and the part of that time in which the worst processor stood still."""
    context = multiprocessing.get_context("fork")
    watchers = []
    for processor in sorted(os.sched_getaffinity(0)):
        here, there = context.Pipe()
        process = context.Process(target=_watch, args=(processor, there), daemon=True)
        process.start()
        watchers.append((process, here))
    begun = time.monotonic()
    try:
        measured = measure()
    finally:
        lasted = time.monotonic() - begun
        for _, report in watchers:
            report.send(None)
        still = [report.recv() for _, report in watchers]
        for process, _ in watchers:
            process.join()
    return measured, max(still) / lasted


def hold(measure: Callable[[], T], holds: Callable[[T], bool]) -> T:
    """Measure until it holds. Fails when it does not on an undisturbed machine; skips when there never was one."""
    disturbed: list[str] = []
    missed: list[T] = []
    held = 0
    for attempt in range(ATTEMPTS):
        begun = time.monotonic()
        measured, still = stood_still_during(measure)
        if attempt and not missed:
            _spent[0] += time.monotonic() - begun
        if holds(measured):
            held += 1
            if held > len(missed):
                return measured
            continue
        held = 0
        if still > STILL:
            disturbed.append(f"{still:.1%}")
        else:
            missed.append(measured)
            assert len(missed) == 1, f"on a machine that was not disturbed: {missed}"
        if _spent[0] > BUDGET and not missed:
            break
    found = reprlib.repr([*missed, measured])
    pytest.skip(f"the machine itself stood still for {', '.join(disturbed)} of the time: {found}")
