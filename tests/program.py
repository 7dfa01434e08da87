"""Runs the program in a forked child of the tests: isolated like a process of its own, but without its start."""

import gc
import os
import pkgutil
import shlex
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Mapping, Sequence
from functools import cache
from importlib import import_module
from pathlib import Path

import wily_sluice

PROGRAM = Path(sys.executable).with_name("sluice")
STARTS = ("__main__", "_program", "control.api", "rig.promises")  # modules that are programs, or only belong to them


@cache
def _load() -> None:
    """Import the program once, for all children."""
    for module in pkgutil.walk_packages(wily_sluice.__path__, "wily_sluice."):
        if not any(part in module.name for part in STARTS):
            import_module(module.name)
    gc.collect()
    gc.freeze()  # so that children share what is not collected


def run(
    arguments: Sequence[str], folder: Path, environment: Mapping[str, str], given: str = ""
) -> "subprocess.CompletedProcess[str]":
    """The program with these arguments, in a folder, with `given` on its standard input."""
    _load()
    with tempfile.TemporaryFile() as entry, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as errors:
        entry.write(given.encode())
        entry.seek(0)
        child = os.fork()
        if child == 0:
            _become(arguments, folder, environment, (entry.fileno(), out.fileno(), errors.fileno()))
        _, status = os.waitpid(child, 0)
        texts = []
        for file in (out, errors):
            file.seek(0)
            texts.append(file.read().decode())
    return subprocess.CompletedProcess(["sluice", *arguments], os.waitstatus_to_exitcode(status), *texts)


def _become(
    arguments: Sequence[str], folder: Path, environment: Mapping[str, str], descriptors: tuple[int, int, int]
) -> None:
    """Be the program, in the child. Never returns."""
    code = 70
    try:
        for number, descriptor in enumerate(descriptors):
            os.dup2(descriptor, number)
        os.chdir(folder)
        os.environ.clear()
        os.environ.update(environment)
        time.tzset()
        sys.stdin = os.fdopen(0, encoding="utf-8")
        sys.stdout, sys.stderr = (os.fdopen(number, "w", encoding="utf-8") for number in (1, 2))
        sys.argv = [str(PROGRAM), *arguments]
        from wily_sluice.cli.main import sluice

        try:
            sluice.main(args=list(arguments), prog_name="sluice")
            code = 0
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        try:
            sys.stdout.flush()
            sys.stderr.flush()
        finally:
            os._exit(code)


def run_line(line: str, folder: Path, environment: Mapping[str, str]) -> "subprocess.CompletedProcess[str]":
    """A line for a shell; in a child if it is the program alone."""
    words = shlex.split(line)
    if words[0] == "sluice" and not {"|", ">", ">>", "<", "&&"} & set(words):
        return run(words[1:], folder, environment)
    return subprocess.run(["sh", "-c", line], cwd=folder, env=environment, capture_output=True, text=True, timeout=60)
