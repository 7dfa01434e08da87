"""Traffic files for the lab, written on the spot."""

from collections.abc import Callable
from pathlib import Path

import pytest

from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.outside.files import load_traffic
from wily_sluice.plan.model import Plan

HEAD = """\
duration: 12 s
warmup: 3 s
seed: 5
lines: {line: {down: 20 Mbit/s, up: 10 Mbit/s, delay: 10 ms, buffer: 400 ms}}
"""


@pytest.fixture
def traffic(tmp_path: Path) -> Callable[..., Traffic]:
    def make(plan: Plan, *applications: str, head: str = HEAD) -> Traffic:
        file = tmp_path / "traffic.yaml"
        file.write_text(head + "applications:\n" + "".join(applications))
        return load_traffic(file, plan)

    return make
