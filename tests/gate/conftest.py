import os
from collections.abc import Iterator

import pytest

from tests.gate.running import PLAN
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built
from wily_sluice.units import MILLISECOND


@pytest.fixture(scope="module")
def rig(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Rig]:
    file = tmp_path_factory.mktemp("life") / "sluice.yaml"
    file.write_text(PLAN)
    with built(load(file), f"life{os.getpid()}", 10 * MILLISECOND) as standing:
        yield standing
