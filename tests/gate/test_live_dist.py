"""The wheel that `make dist` makes, on a gateway without a compiler."""

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.gate.running import PLAN
from wily_sluice.outside.files import load
from wily_sluice.rig.trial import built
from wily_sluice.units import MILLISECOND

pytestmark = [pytest.mark.live, pytest.mark.slow]
ROOT = Path(__file__).parent.parent.parent
NEEDED = (
    "ip",
    "iptables",
    "iptables-restore",
    "ip6tables",
    "ip6tables-restore",
    "sh",
    "env",
)  # what a gateway has, and the rig needs


def test_the_wheel_runs_the_demo_and_a_gate_where_there_is_no_compiler(tmp_path: Path) -> None:
    wheels = list((ROOT / "dist").glob("*.whl"))
    if not wheels:
        pytest.skip("`make dist` was not run")
    assert [wheel.name.rpartition("-")[2].startswith("linux_") for wheel in wheels] == [True]
    assert len(list((ROOT / "dist").glob("*.tar.gz"))) == 1
    commands = tmp_path / "commands"
    commands.mkdir()
    for name in NEEDED:
        (commands / name).symlink_to(str(shutil.which(name)))
    bare = {"PATH": str(commands), "HOME": str(tmp_path)}
    subprocess.run([sys.executable, "-m", "venv", tmp_path / "own"], check=True)
    python, needs = str(tmp_path / "own" / "bin" / "python"), str(ROOT / "build" / "needs")
    install = [python, "-m", "pip", "install", "--quiet", "--no-index", "--find-links", needs, str(wheels[0])]
    subprocess.run(install, env=bare, check=True)

    def sluice(*words: str) -> str:
        command = [python, "-m", "wily_sluice", *words]
        return subprocess.run(command, cwd=tmp_path, env=bare, capture_output=True, text=True, check=True).stdout

    assert "engine compiled" in sluice("--version")
    assert "within" in sluice("demo")
    (tmp_path / "plan.yaml").write_text(PLAN)
    with built(load(tmp_path / "plan.yaml"), f"dist{os.getpid()}", 10 * MILLISECOND) as rig:

        def in_gateway(*words: str) -> list[str]:
            return rig.command("gateway", [python, "-m", "wily_sluice", *words])

        run = in_gateway("gate", "run", "--plan", str(tmp_path / "plan.yaml"), "--state", str(tmp_path / "state"))
        gate = subprocess.Popen(run, env=bare, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        try:
            deadline, status = time.monotonic() + 20, None
            while status is None and time.monotonic() < deadline:
                told = subprocess.run(in_gateway("gate", "status", "--json"), env=bare, capture_output=True, text=True)
                status = json.loads(told.stdout) if told.returncode == 0 else None
        finally:
            gate.terminate()
            said = gate.communicate(timeout=20)[0]
        assert status is not None and status["site"] == "Small", said
        assert gate.returncode == 0, said
