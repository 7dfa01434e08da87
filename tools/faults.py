"""Plants faults in the engine, the plan and the gate, one at a time, and tells which the tests find.

    python -m pytest -n 2 -m "not slow and not live" --cov=wily_sluice --cov-context=test --cov-report= tests
    python -m tools.faults --coverage .coverage [--count N] [--seed N] [--only FAULT…]

A fault is a small change of one expression: a comparison that includes or excludes its bound, a sum for a difference, a
number one larger, a condition turned round, a statement left out. They are drawn by the seed, as many from each of the
three parts, from lines within functions; so the list is the same on every machine. Each is planted in a copy of `src`, in
front of which Python finds nothing else; then the tests run that ran its line, by the coverage (those of the same part, and some of the others), until one fails. `--tests`
takes a marker expression of pytest instead, for tests on real packets.
"""

import ast
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import NamedTuple

import click
from coverage import CoverageData

ROOT = Path(__file__).parent.parent
PARTS = ("engine", "plan", "gate")
MOST_OTHERS = 80  # tests of other parts, among all that ran a line
LONGEST = 600  # seconds, after which tests that do not end count as a fault that was found
COMPARED: dict[type[ast.cmpop], tuple[type[ast.cmpop], str]] = {
    ast.Lt: (ast.LtE, "<="), ast.LtE: (ast.Lt, "<"), ast.Gt: (ast.GtE, ">="), ast.GtE: (ast.Gt, ">"),
    ast.Eq: (ast.NotEq, "!="), ast.NotEq: (ast.Eq, "=="), ast.In: (ast.NotIn, "not in"), ast.Is: (ast.IsNot, "is not"),
}  # fmt: skip
CALCULATED: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.FloorDiv: ast.Mult, ast.BitAnd: ast.BitOr,
    ast.RShift: ast.LShift, ast.LShift: ast.RShift,
}  # fmt: skip


class Fault(NamedTuple):
    """A line of a file below `src/wily_sluice`, and what stands there instead, from `begin` to `end` in characters."""

    file: str
    line: int
    begin: int
    end: int
    was: str
    becomes: str

    @property
    def name(self) -> str:
        """As `--only` takes it."""
        return f"{self.file}:{self.line}:{self.begin}"


def _changed(node: ast.AST) -> ast.AST | None:
    """The same with a fault; None where nothing is to change."""
    match node:
        case ast.Compare(left=left, ops=[op], comparators=others) if type(op) in COMPARED:
            return ast.Compare(left, [COMPARED[type(op)][0]()], others)
        case ast.BinOp(left=left, op=op, right=right) if type(op) in CALCULATED and not isinstance(left, ast.Constant):
            return ast.BinOp(left, CALCULATED[type(op)](), right)
        case ast.BoolOp(op=op, values=values):
            return ast.BoolOp(ast.Or() if isinstance(op, ast.And) else ast.And(), values)
        case ast.UnaryOp(op=ast.Not(), operand=operand):
            return operand
        case ast.Constant(value=bool(value)):
            return ast.Constant(not value)
        case ast.Constant(value=int(value)):
            return ast.Constant(value + 1)
        case ast.AugAssign() | ast.Expr(value=ast.Call()):
            return ast.Pass()
    return None


def faults_of(file: Path) -> Iterator[Fault]:
    """All faults of a file that are on one line, within its functions, and not in what a decorator or an f-string says."""
    text = file.read_text(encoding="utf-8")
    lines = text.splitlines()
    name = str(file.relative_to(ROOT / "src" / "wily_sluice"))

    def walk(node: ast.AST, inside: bool) -> Iterator[ast.AST]:
        if isinstance(node, ast.JoinedStr | ast.Raise | ast.AnnAssign | ast.arguments | ast.ImportFrom | ast.Import):
            return
        if isinstance(node, ast.keyword) and node.arg == "strict":
            return  # of `zip`: it only checks what is so
        if inside and isinstance(node, ast.expr | ast.stmt):
            yield node
        inside = inside or isinstance(node, ast.FunctionDef)
        for child in node.body if isinstance(node, ast.FunctionDef) else ast.iter_child_nodes(node):
            yield from walk(child, inside)

    for node in walk(ast.parse(text), False):
        assert isinstance(node, ast.expr | ast.stmt)
        changed = _changed(node)
        if changed is not None and node.lineno == node.end_lineno and node.end_col_offset is not None:
            line = lines[node.lineno - 1].encode()
            was = line[node.col_offset : node.end_col_offset].decode()
            becomes = ast.unparse(ast.fix_missing_locations(changed))
            if isinstance(node, ast.expr) and not isinstance(node, ast.Constant):
                becomes = f"({becomes})"
            yield Fault(name, node.lineno, node.col_offset, node.end_col_offset, was, becomes)


def drawn(count: int, seed: int) -> list[Fault]:
    """So many, a third from each part, no two on one line."""
    random, faults = Random(seed), []
    for part in PARTS:
        files = sorted((ROOT / "src" / "wily_sluice" / part).rglob("*.py"))
        own = list({(fault.file, fault.line): fault for file in files for fault in faults_of(file)}.values())
        faults += random.sample(own, count // len(PARTS))
    return faults


def tests_of(fault: Fault, covered: CoverageData) -> list[str]:
    """The tests that ran its line."""
    files = [name for name in covered.measured_files() if name.endswith(f"/wily_sluice/{fault.file}")]
    lines = (covered.contexts_by_lineno(name).get(fault.line, []) for name in files)
    tests = sorted({context.rpartition("|")[0] for contexts in lines for context in contexts} - {""})
    near = [name for name in tests if name.startswith(f"tests/{fault.file.partition('/')[0]}/")]
    others = [name for name in tests if name not in near]
    return near + others[:: max(1, len(others) // MOST_OTHERS)]


def found(fault: Fault, where: list[str], tests: str) -> str:
    """The first test that fails with it; empty if none does."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "wily_sluice"
        shutil.copytree(ROOT / "src" / "wily_sluice", copy, ignore=shutil.ignore_patterns("__pycache__"))
        file = copy / fault.file
        lines = file.read_text(encoding="utf-8").split("\n")
        line = lines[fault.line - 1].encode()
        lines[fault.line - 1] = (line[: fault.begin] + fault.becomes.encode() + line[fault.end :]).decode()
        file.write_text("\n".join(lines), encoding="utf-8")
        environment = {**os.environ, "PYTHONPATH": folder, "PYTHONDONTWRITEBYTECODE": "1", "SLUICE_FORM": "source"}
        ignored: list[str] = []
        while failed := _first_failure(where, tests, ignored, environment):
            if failed.startswith(("FAILED ", "ERROR ")):
                name = failed.partition(" ")[2]
                # A busy machine fails tests too: only what fails again, alone, has found something.
                if not _first_failure([name], tests, [], environment):
                    ignored.append(name)
                    continue
            return failed
    return ""


def _first_failure(where: list[str], tests: str, ignored: list[str], environment: dict[str, str]) -> str:
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "--no-header"]
    command += [f"--deselect={name}" for name in ignored] + (["-m", tests] if tests else []) + where
    try:
        run = subprocess.run(
            command, cwd=ROOT, env=environment, capture_output=True, text=True, timeout=LONGEST, check=False
        )
    except subprocess.TimeoutExpired:
        return "the tests did not end"
    if run.returncode in (0, 5):
        return ""
    failures = [line for line in run.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
    return failures[0].partition(" - ")[0] if failures else "the tests did not start"


@click.command(help=__doc__)
@click.option("--count", default=75, help="How many are drawn.")
@click.option("--seed", default=31, help="What they are drawn by.")
@click.option("--only", multiple=True, help="Only this fault, by its name.")
@click.option("--coverage", type=click.Path(exists=True, dir_okay=False), help="Which tests ran which lines.")
@click.option("--tests", default="", help="Which tests, as a marker expression; without coverage, all that fit.")
def main(count: int, seed: int, only: tuple[str, ...], coverage: str | None, tests: str) -> None:
    """Plant and look."""
    signal.signal(signal.SIGINT, signal.default_int_handler)  # who began this may have it ignored, and so by the tests
    faults = [fault for fault in drawn(count, seed) if not only or fault.name in only]
    covered = CoverageData(coverage)
    covered.read()
    results: dict[str, str] = {}
    for fault in faults:
        where = tests_of(fault, covered) if coverage is not None else ["tests"]
        results[fault.name] = found(fault, where, tests) if where else ""
        said = results[fault.name] or f"NOT FOUND by {len(where)} tests"
        click.echo(f"{fault.name}: {fault.was!r} → {fault.becomes!r}: {said}")
    missed = sorted(name for name, test in results.items() if not test)
    click.echo(json.dumps({"planted": len(faults), "found": len(faults) - len(missed), "not found": missed}, indent=1))


if __name__ == "__main__":
    main()
