"""What compiled modules must keep to, since there the same lines would mean something else than in the source."""

import ast
import pickle
from collections.abc import Iterator
from pathlib import Path

import pytest

import wily_sluice
from tests.conftest import form
from wily_sluice.engine.limit.limiter import Limiter, LimiterSpec, Per
from wily_sluice.engine.packet import Framing
from wily_sluice.engine.queueing.spec import LeafSpec
from wily_sluice.forecast.lab.meter import NOTHING

ROOT = Path(wily_sluice.__file__).parent


def classes() -> Iterator[tuple[str, ast.ClassDef]]:
    for file in sorted(
        [*(ROOT / "engine").rglob("*.py"), *(ROOT / "gate").rglob("*.py"), *(ROOT / "forecast/lab").rglob("*.py")]
    ):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.ClassDef):
                yield f"{file.name}: {node.name}", node


def test_all_that_is_to_be_compiled_is_where_anything_is() -> None:
    build = ast.parse((Path(__file__).parent.parent / "hatch_build.py").read_text())
    lists = {ast.unparse(node.targets[0]): node.value for node in build.body if isinstance(node, ast.Assign)}
    parts = [
        ROOT / folder / f"{name}.py"
        for folder, key in (("gate", "GATE"), ("forecast/lab", "LAB"))
        for name in ast.literal_eval(lists[key])
    ]
    assert len(parts) >= 11 and all(file.exists() for file in parts)
    if form() == "compiled":
        wanted = [*(ROOT / "engine").rglob("*.py"), *(ROOT / "recognition").rglob("*.py"), *parts]
        without = [file for file in wanted if not list(file.parent.glob(f"{file.stem}.*.so"))]
        assert [file for file in without if file.stem != "__init__"] == []


def test_a_class_that_is_compared_by_value_is_a_native_one() -> None:
    """Compiled code compares instances of the others by identity alone, whatever their dataclass says."""
    for name, node in classes():
        decorators = [ast.unparse(decorator) for decorator in node.decorator_list]
        if any("native_class=False" in one for one in decorators):
            own = [one.name for one in node.body if isinstance(one, ast.FunctionDef)]
            assert "__eq__" not in own and not any("dataclass" in one for one in decorators), name


@pytest.mark.parametrize("value", [Framing(18, 64, "ptm"), Per("subnet", 24, 56), LeafSpec(most_packets=9), NOTHING])
def test_values_go_through_a_pickle(value: object) -> None:
    assert pickle.loads(pickle.dumps(value)) == value


def test_a_limiter_goes_on_as_one_that_is_equal_but_not_the_same() -> None:
    before, after = (Limiter(LimiterSpec("each", rate, Per("host"))) for rate in (1_000_000, 2_000_000))
    assert before.reconfigure(after, 0)
    assert not before.reconfigure(Limiter(LimiterSpec("each", 1_000_000, Per("subnet"))), 0)
