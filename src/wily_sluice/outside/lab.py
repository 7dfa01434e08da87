"""Runs a traffic file twice, on the bare lines and with the plan's shapers, side by side in two processes."""

import gc
import signal
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, wait
from datetime import datetime
from multiprocessing import active_children, get_context
from multiprocessing.sharedctypes import Synchronized

from wily_sluice.forecast.lab.run import Comparison, Lab, Run, comparison
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.plan.model import Plan
from wily_sluice.units import Nanoseconds

TELL_EVERY = 0.1  # seconds of real time


def compare(
    plan: Plan,
    traffic: Traffic,
    progress: Callable[[float], None] = lambda _: None,
    begin: datetime | None = None,
) -> Comparison:
    """Both runs, with the same start. `progress` receives the finished fraction of both together, 0 to 1."""
    context = get_context("fork")
    clocks = [context.Value("q", 0), context.Value("q", 0)]
    with ProcessPoolExecutor(2, context, initializer=_prepare, initargs=(clocks,)) as pool:
        # Python forgets an interrupt that comes while it forks, since what runs behind a fork may raise nothing: so it
        # waits until both have begun.
        signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
        runs = [pool.submit(_run_in_process, plan, traffic, shaped, begin) for shaped in (False, True)]
        try:
            signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT})
            while wait(runs, timeout=TELL_EVERY).not_done:
                progress(sum(clock.value for clock in clocks) / (2 * traffic.duration))
        except BaseException:
            for worker in active_children():
                worker.terminate()
            raise
        before, after = (run.result() for run in runs)
    return comparison(plan, traffic, before, after)


_clocks: "list[Synchronized[int]]" = []  # in a worker: where each run tells how far it is


def _prepare(clocks: "list[Synchronized[int]]") -> None:
    signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT})
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # a worker ends without a word when the person has had enough
    _clocks[:] = clocks
    gc.disable()  # a run makes millions of packets and no cycles of them


def _run_in_process(plan: Plan, traffic: Traffic, shaped: bool, begin: datetime | None) -> Run:
    def tell(now: Nanoseconds) -> None:
        _clocks[shaped].value = now

    return Lab(plan, traffic, shaped, begin).run(tell)
