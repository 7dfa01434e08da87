"""Imports point one way: cli → views → rig, control → gate, sorting, forecast, history → plan, recognition → engine."""

import ast
from pathlib import Path

import wily_sluice

ROOT = Path(wily_sluice.__file__).parent
MAY_IMPORT = {
    "units": set(),
    "examples": set(),
    "errors": set(),
    "bootstrap": set(),
    "engine": {"units", "engine"},
    "recognition": {"units", "engine", "recognition"},
    "plan": {"units", "errors", "engine", "plan"},
    "forecast": {"units", "engine", "plan", "ports", "forecast"},
    "comparing": {"units", "bootstrap", "plan", "forecast", "comparing"},
    "history": {"units", "errors", "engine", "plan", "history"},
    "sorting": {"units", "engine", "recognition", "plan", "sorting"},
    "ports": {"units", "engine", "plan", "ports"},
    "gate": {"units", "errors", "engine", "recognition", "plan", "ports", "gate"},
    "outside": {"units", "errors", "engine", "plan", "forecast", "outside"},
    "gauge": {"units", "bootstrap", "errors", "engine", "plan", "gauge"},
    "doctor": {"units", "outside", "errors", "plan", "doctor"},
    "rig": {"units", "outside", "errors", "engine", "plan", "forecast", "gate", "gauge", "rig"},
    "proving": {"units", "errors", "engine", "plan", "forecast", "gate", "gauge", "rig", "control", "proving"},
    "control": {"units", "outside", "errors", "engine", "plan", "ports", "history", "gate", "control", "__version__"},
    "views": {
        "units", "outside", "errors", "engine", "plan", "forecast", "comparing", "sorting", "gate", "rig", "history",
        "control", "gauge", "doctor", "views",
    },
    "cli": {
        "units", "doctor", "errors", "outside", "engine", "plan", "forecast", "comparing", "history", "sorting", "gate",
        "rig", "control", "gauge", "proving", "views", "cli", "examples", "__version__",
    },
}  # fmt: skip
PURE = ("engine", "recognition", "plan", "forecast", "comparing", "sorting", "ports")
WORLDLY = {"click", "socket", "subprocess", "select", "time"}
FILES_AND_PROCESSES = {"os", "pathlib", "tempfile", "multiprocessing", "concurrent", "signal", "shutil"}


def imported(file: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


def test_imports_point_one_way() -> None:
    for file in ROOT.rglob("*.py"):
        part = file.relative_to(ROOT).parts[0].removesuffix(".py")
        if part in MAY_IMPORT:
            ours = {name.split(".")[1] for name in imported(file) if name.startswith("wily_sluice.")}
            assert ours <= MAY_IMPORT[part], file


def test_the_core_knows_no_clock_no_network_and_no_terminal() -> None:
    for part in PURE:
        for file in (ROOT / part).rglob("*.py"):
            assert not {name.split(".")[0] for name in imported(file)} & WORLDLY, file


def test_plan_and_forecast_open_no_file_and_start_no_process() -> None:
    for part in ("engine", "recognition", "plan", "forecast"):
        for file in (ROOT / part).rglob("*.py"):
            assert not {name.split(".")[0] for name in imported(file)} & FILES_AND_PROCESSES, file
