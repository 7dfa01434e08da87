"""The built program measures the way to itself."""

import json
import signal
import subprocess
import time
from pathlib import Path

import pytest

from tests.cli.conftest import PROGRAM, Sluice
from tests.conftest import SMALL_PLAN, WORKER
from wily_sluice.cli.options import Refusal
from wily_sluice.cli.trying.gauge_line import write_measured
from wily_sluice.gauge.advice import Advice
from wily_sluice.outside.files import load
from wily_sluice.plan.file.yaml_text import parse

PORT = str(18_862 + 10 * WORKER)


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


LINE = "{interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%}"
RANGE = LINE.replace("20 Mbit/s", "8 to 20 Mbit/s").replace("10%", "10%, probe: [198.51.100.53]")


@pytest.mark.parametrize(
    ("line", "rates", "advised", "written"),
    [
        # A framing stays as it was taken for the arithmetic; more headroom stays, and less is raised by direction.
        (LINE, (15, 12), (0.05, "ethernet"), {"down": "15 Mbit/s", "up": "12 Mbit/s", "headroom": "10%"}),
        (LINE, (15, 12), (0.2, "pppoe"), {"headroom": "20%", "framing": "pppoe"}),
        (
            LINE.replace("10%}", "{down: 15%, up: 5%}}"),
            (15, 12),
            (0.08, "ethernet"),
            {"headroom": {"up": "8%", "down": "15%"}},
        ),
        (RANGE, (12, 12), (0.05, "ethernet"), {"down": "8 to 20 Mbit/s"}),
        (RANGE, (6, 12), (0.05, "ethernet"), {"down": "6 Mbit/s to 20 Mbit/s"}),
    ],
)
def test_what_a_measurement_does_not_refute_stays_in_the_plan(
    tmp_path: Path, line: str, rates: tuple[int, int], advised: tuple[float, str], written: dict[str, object]
) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN.replace(LINE, line))
    advice = Advice({"down": rates[0] * 10**6, "up": rates[1] * 10**6}, *advised, ())
    write_measured(file, load(file).uplinks[0], advice, False)
    entry = parse(file.read_text())[0]["uplinks"]["line"]
    assert {key: entry[key] for key in written} == written
    assert ("framing" in entry) == (advised[1] != "ethernet")
    assert load(file)


@pytest.mark.parametrize(("rate", "refused"), [(18.0, True), (16.5, True), (15.9, False), (19.9, False)])
def test_a_rate_that_may_be_the_plans_own_does_not_shrink_it(tmp_path: Path, rate: float, refused: bool) -> None:
    """Of 20 Mbit/s, 18 are used: a measurement through the gate finds these, less what it cannot fill."""
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN)
    advice = Advice({"down": round(rate * 10**6)}, 0.05, "ethernet", ())
    (uplink,) = load(file).uplinks
    if refused:
        with pytest.raises(Refusal, match="if a gate shapes the path"):
            write_measured(file, uplink, advice, False)
        assert file.read_text() == SMALL_PLAN
    write_measured(file, uplink, advice, refused)
    assert load(file).uplinks[0].down == rate * 10**6


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ((), "the far end, or --url"),
        (("127.0.0.1", "--key", "line.key"), "nothing answers at http://127.0.0.1:8862"),
        (("127.0.0.1", "--key", "line.key", "--write"), "nothing answers at http://127.0.0.1:8862"),
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


def test_a_measurement_is_not_written_where_there_is_no_plan(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "line.key").write_text("a key of the two machines\n")
    (tmp_path / "sluice.yaml").unlink()
    done = sluice("gauge", "line", "127.0.0.1", "--key", "line.key", "--write")
    assert done.returncode == 3 and "there is no sluice.yaml here: name it with --plan" in done.stderr
