"""The built program measures the way to itself."""

import json
import signal
import subprocess
import time
from pathlib import Path

import pytest

from tests.cli.conftest import PROGRAM, Sluice

PORT = "18862"


def test_a_measurement_goes_to_a_reflector_with_the_same_key(sluice: Sluice, tmp_path: Path) -> None:
    words = ["gauge", "serve", "--listen", "127.0.0.1", "--port", PORT, "--http-port", PORT, "--key", "line.key"]
    serving = subprocess.Popen([*PROGRAM, *words], cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    try:
        until = time.monotonic() + 20
        assert serving.stderr is not None
        while "answering" not in serving.stderr.readline():
            assert time.monotonic() < until
        assert (tmp_path / "line.key").stat().st_mode & 0o777 == 0o600
        ask = ("gauge", "delay", "127.0.0.1", "--port", PORT, "--for", "300 ms")
        found = json.loads(sluice(*ask, "--key", "line.key", "--json").stdout)
        assert (found["sent"], found["answered"], found["whole"], found["lost_up"]) == (15, 15, True, 0)
        (tmp_path / "other.key").write_text("a key of somebody else\n")
        refused = sluice(*ask, "--key", "other.key")
        assert refused.returncode == 3 and "the same key" in refused.stderr
        serving.send_signal(signal.SIGINT)
        assert serving.wait(20) == 0
        assert "15 test packets answered, 15 from strangers" in serving.stderr.read()
    finally:
        serving.kill()


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ((), "the far end, or --url"),
        (("127.0.0.1", "--key", "line.key"), "nothing answers at http://127.0.0.1:8862"),
        (("127.0.0.1", "--key", "line.key", "--write"), "--write needs the plan"),
        (("--url", "ftp://files.example/big"), "no URL of http or https"),
    ],
)
def test_a_line_that_cannot_be_measured_is_told(
    sluice: Sluice, tmp_path: Path, words: tuple[str, ...], says: str
) -> None:
    (tmp_path / "line.key").write_text("a key of the two machines\n")
    done = sluice("gauge", "line", *words)
    assert done.returncode == 3 and says in done.stderr


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("nowhere.example", "--key", "line.key"), "cannot be found"),
        (("127.0.0.1", "--key", "none.key"), "there is no key"),
        (("127.0.0.1", "--key", "short.key"), "needs at least 16"),
    ],
)
def test_what_cannot_be_measured_is_told(sluice: Sluice, tmp_path: Path, words: tuple[str, ...], says: str) -> None:
    (tmp_path / "line.key").write_text("a key of the two machines\n")
    (tmp_path / "short.key").write_text("short\n")
    done = sluice("gauge", "delay", *words)
    assert done.returncode == 3 and says in done.stderr
