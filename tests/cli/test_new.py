"""A first plan, asked for on a real terminal; from a file of answers; and the sites to start from."""

import subprocess
from datetime import datetime
from pathlib import Path

import pexpect
import pytest

from tests.cli.conftest import PATIENCE, PROGRAM, talk
from wily_sluice import examples
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.lab.usual_traffic import DELAY, usual_traffic
from wily_sluice.outside.files import examine, load
from wily_sluice.units import MILLISECOND

PACKETS = 60_000
# What is typed at each prompt, by the words before its >.
HOME = [
    ("name of the site", "Heron Cottage"), ("time zone", "Europe/Dublin"),
    ("kind", "3"), ("name", "copper"), ("interface", "wan0"), ("advertised", "80/20"), ("measured", "62/16"),
    ("another uplink", "n"), ("interface", "lan0"), ("subnets", "192.0.2.0/24"), ("name", "home"),
    ("another network", "n"), ("first", "games calls"), ("films", "films.example"), ("limit one host", "y"),
    ("address", "02:00:5e:10:00:07"), ("at most", "20/2"), ("hosts share equally", "y"), ("when", "18:00-22:00"),
]  # fmt: skip
SHOP = [
    ("name of the site", "Marsh Lane Stores"), ("time zone", "Europe/Dublin"),
    ("kind", "cable"), ("name", "cable"), ("interface", "wan0"), ("advertised", "100/5"), ("measured", ""),
    ("another uplink", "n"), ("interface", "lan0"), ("subnets", "192.0.2.0/24, 2001:db8:1::/64"), ("name", "shop"),
    ("another network", "y"), ("interface", "lan1"), ("subnets", "198.51.100.0/24"), ("name", "guests"),
    ("another network", "n"), ("first", ""), ("films", ""), ("limit guests", "y"),
    ("network", "guests"), ("at most", "4/1"), ("limit one host", "n"), ("hosts share equally", "n"),
    ("when", "mon-sat 09:00-19:00"),
]  # fmt: skip
OFFICE = [
    ("name of the site", "Curlew Yard"), ("time zone", "Mars"), ("time zone", "Europe/Dublin"),
    ("kind", "9"), ("kind", "2"), ("name", "fibre"), ("interface", "wan0"), ("advertised", ""), ("measured", ""),
    ("measured", "28/5.6"), ("another uplink", "y"), ("kind", "6"), ("name", "fibre"), ("name", "mobile"),
    ("interface", "wan1"), ("advertised", ""), ("measured", "6/1.5"), ("another uplink", "n"),
    ("remotes that answer", "198.51.100.53, 2001:db8::53"),
    ("interface", "lan0"), ("subnets", "192.0.2.5/24"), ("subnets", "192.0.2.0/24"), ("name", "office"),
    ("another network", "n"), ("first", "calls backups"), ("first", "?"), ("first", "back"),
    ("another network", ""), ("first", "meetings, work"), ("films", ""), ("limit one host", "n"),
    ("hosts share equally", "y"),
]  # fmt: skip


@pytest.mark.parametrize(
    "answers",
    [HOME, pytest.param(SHOP, marks=pytest.mark.slow), pytest.param(OFFICE, marks=pytest.mark.slow)],
    ids=["home", "shop", "office"],
)
def test_a_plan_that_was_asked_for_is_sound_and_keeps_calls_on_time(
    tmp_path: Path, answers: list[tuple[str, str]]
) -> None:
    talking = talk(tmp_path, answers, "--save-answers", "answers.yaml")
    talking.expect("Write sluice.yaml")
    assert not (tmp_path / "sluice.yaml").exists()  # nothing before the end
    talking.sendline("y")
    talking.expect(pexpect.EOF)
    talking.close()
    assert talking.exitstatus == 0, talking.before
    plan, findings = examine(tmp_path / "sluice.yaml")
    assert plan is not None and not [one for one in findings if one.severity != "note"]
    assert bool(findings) == (answers is SHOP)  # whose line nobody has measured
    leading = [(dict(route.shares), route.otherwise) for route in plan.routes]
    assert leading == ([({"fibre": 1.0}, "mobile")] if answers is OFFICE else [])
    for row in Lab(plan, usual_traffic(plan, PACKETS), shaped=True).run().rows:
        if row.kind == "call":
            assert row.measured.p99 is not None and row.measured.p99 < DELAY + 20 * MILLISECOND
            assert row.queue == ("calls" if row.name.startswith("Call") else "play") and row.measured.loss == 0
    again = [*PROGRAM, "new", "--from", "answers.yaml", "--output", "again.yaml", "--no-forecast"]
    subprocess.run(again, cwd=tmp_path, check=True, capture_output=True, timeout=PATIENCE)
    assert (tmp_path / "again.yaml").read_bytes() == (tmp_path / "sluice.yaml").read_bytes()


# What is wrong is said at its question; `back` returns to the one before and offers what was answered.
SAID = [
    ("name of the site", "Gull Row", ""), ("time zone", "UTC", ""), ("kind", "?", "the per-packet overhead"),
    ("kind", "4", ""), ("name", "my line", "is not a valid name"), ("name", "cable", ""),
    ("interface", "wan0", "no interface wan0"),
    ("advertised", "50/10", ""), ("measured", "?", "sluice gauge line"),
    ("measured", "100/20", "above the advertised one"),
    ("another uplink", "n", ""), ("interface", "wan0", "is in use already"), ("interface", "lan0", ""),
    ("subnets", "192.0.2.0/24", ""), ("name", "home", ""), ("another network", "y", ""), ("interface", "lan1", ""),
    ("subnets", "192.0.2.128/25", "overlaps 192.0.2.0/24"), ("subnets", "198.51.100.0/24", ""), ("name", "guests", ""),
    ("another network", "n", ""), ("first", "games backups", "there is no “backups”"), ("first", "games calls", ""),
    ("films", "films.example", ""), ("limit guests", "back", ""), (r"films \[films.example\]", "", ""),
    ("limit guests", "y", ""), ("network", "", ""), ("at most", "500/1", "is no limit"), ("at most", "5/1", ""),
    ("limit one host", "y", ""), ("address", "203.0.113.9", "in none of your networks"),
    ("address", "192.0.2.9", ""),
    ("at most", "20/2", ""), ("hosts share equally", "", ""), ("when", "17:00-23:00", ""),
    ("Write sluice.yaml", "back", ""),
    ("when", "18:00-23:00", ""), ("Write sluice.yaml", "save", "sluice new --from sluice.answers.yaml"),
]  # fmt: skip


def test_what_is_wrong_is_said_at_its_question_and_no_answer_is_lost(tmp_path: Path) -> None:
    talking = talk(tmp_path, [], "--no-forecast")
    for prompt, answer, said in SAID:
        talking.expect(rf"{prompt}[^\r\n>]*> ")
        talking.sendline(answer)
        if said:
            talking.expect(said.replace(" ", r"\s+"))
    talking.expect(pexpect.EOF)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["sluice.answers.yaml"]
    again = [*PROGRAM, "new", "--from", "sluice.answers.yaml", "--no-forecast"]
    subprocess.run(again, cwd=tmp_path, check=True, capture_output=True, timeout=PATIENCE)
    plan = load(tmp_path / "sluice.yaml")
    assert [queue.name for queue in plan.trees["main"].queues][-1] == "guests"
    assert plan.schedules["held-back"].holds(datetime(2026, 12, 1, 17, 30)) is False


@pytest.mark.parametrize("key", ["\x03", "\x04", "quit\n"], ids=["interrupt", "end", "quit"])
def test_who_ends_the_questions_has_written_nothing(tmp_path: Path, key: str) -> None:
    talking = talk(tmp_path, HOME[:5])
    talking.expect("advertised > ")
    talking.send(key)
    talking.expect("nothing was written")
    talking.expect(pexpect.EOF)
    talking.close()
    assert talking.exitstatus == 130
    assert not [path for path in tmp_path.iterdir() if path.suffix == ".yaml"]


def test_a_file_that_is_there_is_not_replaced_and_one_that_cannot_be_written_is_told(tmp_path: Path) -> None:
    def run(*words: str) -> "subprocess.CompletedProcess[str]":
        command = [*PROGRAM, "new", "--like", "shop", *words]
        return subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=PATIENCE)

    assert run().returncode == 0
    before = (tmp_path / "sluice.yaml").read_bytes()
    assert run().returncode == 3 and "is there already" in run().stderr
    assert (tmp_path / "sluice.yaml").read_bytes() == before
    assert "No such file" in run("--output", "nowhere/plan.yaml").stderr
    assert "cannot write" in run("--output", "/proc/plan.yaml").stderr
    assert sorted(path.name for path in tmp_path.iterdir()) == ["sluice.yaml"]


@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=[pytest.mark.slow] * (name != "shop")) for name in examples.sites()]
)
def test_a_site_to_start_from_is_sound_and_keeps_calls_on_time(name: str) -> None:
    file = examples.sites()[name].file
    assert [one.code for one in examine(file)[1]] == ["failure-unseen"] * (name == "two-lines")
    plan = load(file)
    for row in Lab(plan, usual_traffic(plan, PACKETS), shaped=True).run().rows:
        if row.kind == "call" and row.name.startswith("Call"):
            assert row.measured.p99 is not None and row.measured.p99 < DELAY + 20 * MILLISECOND, row


def test_a_mistake_in_a_file_of_answers_is_told_with_its_line(tmp_path: Path) -> None:
    file = tmp_path / "answers.yaml"
    file.write_text(
        "site: X\nuplinks:\n  line: {interface: wan0, kind: fibre, advertised: {down: 9 Mbit/s}}\n"
        "networks: {home: {interface: lan0, subnets: 192.0.2.0/24}}\n"
        "guests: {network: gusts, down: 1 Mbit/s, up: 1 Mbit/s}\nfirst: [calls, calls]\nwhen: [25:00-26:00]\n"
    )
    command = [*PROGRAM, "new", "--from", str(file)]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=PATIENCE)
    assert done.returncode == 2
    for says in ("3: error: uplinks.line: has no rate up", "5: error: guests.network", "named twice", "7: error: when"):
        assert says in done.stderr
