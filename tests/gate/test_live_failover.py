"""A line that fails on real packets, beside what the lab says of it."""

from pathlib import Path

import pytest

from benchmarks.failover import CASES, PLAN, forecast, real
from tests.gate.stillness import hold
from wily_sluice.outside.files import load

pytestmark = pytest.mark.live
LATE = 0.5  # seconds, of a machine with much to do


@pytest.mark.parametrize(
    ("kind", "probe"), [pytest.param(*CASES[0], marks=pytest.mark.room), CASES[2]], ids=["link", "silent"]
)
def test_a_call_is_silent_for_as_long_as_the_lab_says_until_another_line_takes_over(
    tmp_path: Path, kind: str, probe: str
) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN % probe)
    plan = load(file)
    forecasts = [forecast(tmp_path, plan, kind, seed) for seed in range(20)]
    assert 0.9 < max(forecasts) - min(forecasts) + 0.3 < 1.5  # it depends on when in a second the line fails
    hold(lambda: real(tmp_path, plan, file, kind, 0.4), lambda found: min(forecasts) <= found < max(forecasts) + LATE)
