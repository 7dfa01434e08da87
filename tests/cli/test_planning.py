"""The built program: edits and their undoing, mending, what a comment allows, and explanations."""

import json
import subprocess
from pathlib import Path

import pytest

from tests.cli.conftest import PROGRAM, Sluice
from tests.conftest import SMALL_PLAN


@pytest.fixture(autouse=True)
def own_history(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def test_an_edit_is_shown_checked_written_and_undone(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.chmod(0o640)
    dry = sluice("edit", "limiter", "set", "guest", "down=1 Mbit/s", "up=", "--dry-run")
    assert dry.returncode == 3 and "has no “up”" in dry.stderr
    assert sluice("edit", "limiter", "set", "guest", "down=1 Mbit/s", "--dry-run").returncode == 0
    assert file.read_text() == SMALL_PLAN
    done = sluice("edit", "limiter", "set", "guest", "down=1 Mbit/s")
    assert "+  guest: {local: guests, per: host, down: 1 Mbit/s}" in done.stdout
    assert file.read_text() == SMALL_PLAN.replace("down: 2 Mbit/s", "down: 1 Mbit/s")
    assert file.stat().st_mode & 0o777 == 0o640
    refused = sluice("edit", "queue", "set", "calls", "guarantee=120%")
    assert refused.returncode == 2 and "not written" in refused.stderr and "[" in refused.stderr
    assert sluice("edit", "group", "add", "tablet", "02:00:5e:10:00:07").returncode == 0
    told = json.loads(sluice("edit", "rule", "move", "Calls", "--to", "9", "--json").stdout)
    assert "is there already" in told["error"]["message"]
    assert "2 edits undone; no more to undo" in sluice("edit", "undo", "5").stdout
    assert file.read_text() == SMALL_PLAN
    assert "no edit" in sluice("edit", "undo").stderr
    assert "standard input cannot be edited" in sluice("check", "--fix", "-").stderr
    file.write_text("site: [")
    assert "sluice.yaml:2: is not YAML" in sluice("edit", "rule", "off", "Calls").stderr


def test_two_programs_at_once_lose_no_edit(tmp_path: Path) -> None:
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN)
    running = [
        subprocess.Popen([*PROGRAM, "edit", "group", "add", f"g{n}", "10.7.0.9"], cwd=tmp_path, stdout=subprocess.PIPE)
        for n in range(6)
    ]
    assert [one.wait() for one in running] == [0] * 6
    for one in running:
        one.communicate()
    text = (tmp_path / "sluice.yaml").read_text()
    assert all(f"\n  g{n}: [10.7.0.9]\n" in text for n in range(6))


def test_what_has_no_effect_is_mended_and_nothing_else_changes(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    text = SMALL_PLAN.replace("rules:", "  tight: {local: 10.7.1.9, per: host, down: 3 Mbit/s}   # no use\nrules:")
    file.write_text(text)
    found = sluice("check")
    assert "[limiter-redundant]" in found.stdout and "`sluice check --fix` mends 1" in found.stdout
    assert sluice("check", "--fix", "--dry-run").returncode == 0
    assert file.read_text() == text
    assert "-  tight:" in sluice("check", "--fix").stdout
    assert file.read_text() == SMALL_PLAN
    assert sluice("edit", "undo").returncode == 0
    assert file.read_text() == text


def test_a_comment_allows_a_warning_and_must_say_why(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    plan = SMALL_PLAN.replace("rest: {default: true}", "rest: {default: true, guarantee: 5%}")
    risky = plan.replace("headroom: 10%}", "headroom: 1%}")
    for comment, says in (
        ("", "[little-headroom]"),
        ("   # sluice: allow little-headroom", "without saying why"),
        ("   # sluice: allow little-headrom it is measured", "did you mean “little-headroom”?"),
        ("   # sluice: allow nothing-usable it is measured", "cannot be allowed"),
    ):
        file.write_text(risky.replace("headroom: 1%}", f"headroom: 1%}}{comment}"))
        assert says in sluice("check").stdout
    accepted = "   # sluice: allow little-headroom the modem has no queue"
    file.write_text(risky.replace("headroom: 1%}", f"headroom: 1%}}{accepted}"))
    before = sluice("check", "--strict")
    file.write_text(risky.replace("  line:", f"{accepted}\n  line:"))
    above = sluice("check", "--strict")
    assert "little-headroom" not in before.stdout + above.stdout
    file.write_text(plan.replace("headroom: 10%}", f"headroom: 10%}}{accepted}"))
    assert "which is not found here" in sluice("check").stdout


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["default-starves"], "This has it:"),
        (["guarantee"], "main: calls has 20%"),
        (["choice", "discipline"], "For your plan: "),
        (["24Mb/s"], "3 MB/s"),
        (["sluice.yaml:15"], "Calls: UDP conversations from house"),
        ([], "burst-below-window"),
    ],
)
def test_things_are_explained_with_the_plan_as_the_example(
    sluice: Sluice,
    words: list[str],
    says: str,
) -> None:
    assert says in sluice("explain", *words).stdout
    if words:
        assert json.loads(sluice("explain", *words, "--json").stdout)


def test_what_cannot_be_explained_is_told_with_what_is_near(sluice: Sluice) -> None:
    assert "did you mean “guarantee”?" in sluice("explain", "garantee").stderr
    assert "nothing begins on line" in sluice("explain", "sluice.yaml:99").stderr


def test_promises_are_proven_with_their_lines_as_a_table_data_and_junit_xml(sluice: Sluice, tmp_path: Path) -> None:
    done = sluice("prove", "--only", "Calls", "--junit", "results.xml")
    assert done.returncode == 0
    assert "1 kept" in done.stdout and "  15" in done.stdout
    assert (tmp_path / "results.xml").read_text().startswith("<?xml")
    found = json.loads(sluice("prove", "--only", "limiter", "--json").stdout)["promises"]
    assert [(one["line"], one["verdict"], one["expected"]) for one in found] == [(13, "kept", "4 Mbit/s for 2 hosts")]
    assert sluice("prove", "--only", "nobody").returncode == 3
    assert sluice("prove", "--only", "guarantee", "--strict").returncode == 1  # a first priority needs no guarantee


def test_a_run_of_the_lab_is_compared_with_itself_and_two_kinds_are_not(sluice: Sluice, tmp_path: Path) -> None:
    rows = [{"name": "Call", "way": "up", "kind": "call", "goodput": 64_000, "sent": 1000, "loss": loss, "p50": p50}
            for loss, p50 in ((0.2, 90_000_000), (0.0, 9_000_000))]  # fmt: skip
    (tmp_path / "lab.json").write_text(json.dumps({"before": [rows[0]], "after": [rows[1]]}))
    (tmp_path / "other.json").write_text(
        json.dumps({"promises": [{"promise": "cap", "name": "a", "where": "b", "rate": 1}]})
    )
    done = sluice("compare", "lab.json", "--picture", "change.png")
    assert done.returncode == 0, done.stderr
    assert "Call, up: p50" in done.stdout and "-90.0%" in done.stdout and "better" in done.stdout
    assert "-20.0 points" in done.stdout and (tmp_path / "change.png").stat().st_size > 5_000
    refused = sluice("compare", "lab.json", "other.json")
    assert refused.returncode == 3 and "nothing in common" in refused.stderr
    assert sluice("compare", "other.json").returncode == 3
