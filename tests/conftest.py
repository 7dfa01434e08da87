"""What several tests share: the demo's files, a plan written on the spot, and whether real packets can be shaped."""

import os
import shutil
import time
from collections.abc import Callable, Generator
from pathlib import Path

import psutil
import pytest
from hypothesis import HealthCheck, settings

import wily_sluice.engine.queueing.tree
from wily_sluice import examples
from wily_sluice.gate.kernel.packet_queue import PacketQueue
from wily_sluice.outside.files import examine, load
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Plan

# A loaded machine is slow, which is no failure; and every run draws the same examples, unless it is to draw anew.
settings.register_profile("steady", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("anew", deadline=None, print_blob=True, suppress_health_check=[HealthCheck.too_slow])
DRAW = os.environ.get("SLUICE_DRAW", "steady")
settings.load_profile(DRAW)


def drawings(number: int) -> int:
    """How many examples are drawn: so many where time is no matter, and two fifths of them before a commit."""
    return number if DRAW == "anew" else number * 2 // 5


WORKER = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))  # of those that run tests at a time
MOST_SKIPPED = 3  # tests of a run that a disturbed machine kept from being measured
STOLEN = 0.005  # of the time of a test: more than this, and the machine was disturbed

SMALL_PLAN = """\
site: Small
uplinks:
  line: {interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
  guests: {interface: lan1, subnets: [10.7.1.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      rest: {default: true}
limiters:
  guest: {local: guests, per: host, down: 2 Mbit/s}
rules:
  - {name: Calls, local: house, protocol: udp, port: 5004-5005, queue: calls}
"""


def told(file: Path) -> list[Finding]:
    """What is told of a plan; but that the default can starve or a host goes first, as in the small one."""
    return [finding for finding in examine(file)[1] if finding.code not in ("default-starves", "host-urgent")]


@pytest.fixture
def small_plan(tmp_path: Path) -> Callable[..., Plan]:
    """Writes SMALL_PLAN with some words of it replaced, and loads it."""

    def make(*replacements: tuple[str, str]) -> Plan:
        text = SMALL_PLAN
        for old, new in replacements:
            assert old in text
            text = text.replace(old, new)
        file = tmp_path / "sluice.yaml"
        file.write_text(text)
        return load(file)

    return make


@pytest.fixture
def demo_plan() -> Plan:
    return load(examples.folder() / examples.PLAN)


def why_not_live() -> str:
    """Why real packets cannot be shaped here; empty when they can."""
    if os.geteuid() != 0:
        return "shaping real packets needs root"
    missing = [command for command in ("ip", "iptables", "ip6tables") if shutil.which(command) is None]
    if missing:
        return f"the commands {', '.join(missing)} are missing"
    try:
        PacketQueue(65_000).close()
    except OSError as error:
        return f"the kernel's packet queue cannot be used: {error}"
    return ""


def form() -> str:
    """In which form the engine is tested here."""
    return "source" if (wily_sluice.engine.queueing.tree.__file__ or "").endswith(".py") else "compiled"


def pytest_report_header() -> str:
    return f"wily_sluice: {form()}, in {Path(wily_sluice.__file__).parent}"


def pytest_sessionstart() -> None:
    wanted = os.environ.get("SLUICE_FORM", form())
    if wanted != form():
        raise pytest.UsageError(f"the engine is to be tested {wanted}, but is {form()} in {wily_sluice.__file__}")


# The longest tests, which begin first, shared out among the processes that run tests at a time.
LONG = (
    *("cli/test_program.py", "test_installation.py", "cli/test_new.py", "views/test_report.py", "test_recipes.py"),
    *("plan/test_drawn.py", "gauge/test_line.py", "forecast/test_lab.py", "engine/test_tree.py", "plan/test_start.py"),
)


def shared_out(items: list[pytest.Item], workers: int) -> list[pytest.Item]:
    """In an order of which each worker takes an equal stretch; each stretch begins with some of the long modules."""
    modules: dict[str, list[pytest.Item]] = {}
    for item in items:
        modules.setdefault(item.nodeid.partition("::")[0], []).append(item)
    long = [tests for name, tests in modules.items() if name.endswith(LONG)]
    rest = [item for name, tests in modules.items() if not name.endswith(LONG) for item in tests]
    ordered, share = [], len(items) / workers
    for worker in range(workers):
        ordered += [item for tests in long[worker::workers] for item in tests]
        until = round(share * (worker + 1)) if worker < workers - 1 else len(items)
        ordered += [rest.pop(0) for _ in range(min(len(rest), until - len(ordered)))]
    return ordered + rest


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    if (workers := int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))) > 1:
        items[:] = shared_out(items, workers)
    reason = why_not_live() if any(item.get_closest_marker("live") for item in items) else ""
    for item in items:
        if reason and item.get_closest_marker("live"):
            item.add_marker(pytest.mark.skip(reason=reason))


class Disturbed(Exception):
    """A test on real packets failed while another machine had the processors: it is tried again."""


@pytest.hookimpl(wrapper=True)
def pytest_pyfunc_call(pyfuncitem: pytest.Function) -> Generator[None, object, object]:
    if pyfuncitem.get_closest_marker("live") is None:
        return (yield)
    begun, stolen = time.monotonic(), psutil.cpu_times().steal
    try:
        return (yield)
    except Exception as error:
        part = (psutil.cpu_times().steal - stolen) / (time.monotonic() - begun) / (psutil.cpu_count() or 1)
        if part > STOLEN:
            raise Disturbed(f"{part:.1%} of the processors' time was stolen") from error
        raise


def _disturbed(reporter: pytest.TerminalReporter) -> tuple[int, int]:
    """How many tests were repeated, and how many were skipped, since the machine was disturbed."""
    skipped = sum("stood still" in str(report.longrepr) for report in reporter.stats.get("skipped", []))
    return len(reporter.stats.get("rerun", [])), skipped


@pytest.hookimpl(trylast=True)
def pytest_sessionfinish(session: pytest.Session) -> None:
    """A run of which too much was not measured fails."""
    reporter = session.config.pluginmanager.get_plugin("terminalreporter")
    if reporter is not None and _disturbed(reporter)[1] > MOST_SKIPPED:
        session.exitstatus = pytest.ExitCode.TESTS_FAILED


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    repeated, skipped = _disturbed(terminalreporter)
    if repeated or skipped:
        few = f", which is too many: {MOST_SKIPPED} may be" if skipped > MOST_SKIPPED else ""
        terminalreporter.write_line(f"{repeated} repeated and {skipped} skipped, as the machine was disturbed{few}")
