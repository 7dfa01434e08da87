"""The built program: edits and their undoing, mending, what a comment allows, and explanations."""

import json
import subprocess
from pathlib import Path

import pytest

from tests.cli.conftest import PROGRAM, Sluice
from tests.conftest import SMALL_PLAN
from wily_sluice.outside.files import load


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
    assert "2 edits undone; nothing else to undo" in sluice("edit", "undo", "5").stdout
    assert file.read_text() == SMALL_PLAN
    assert "no edit" in sluice("edit", "undo").stderr
    assert "standard input cannot be edited" in sluice("check", "--fix", "-").stderr
    file.write_text("site: [")
    assert "sluice.yaml:2: is not YAML" in sluice("edit", "rule", "off", "Calls").stderr


def test_members_join_and_leave_and_nothing_is_written_where_nothing_changes(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    with_group = SMALL_PLAN.replace("trees:", 'groups:\n  phones: ["10.7.0.4", 10.7.0.5]  # on desks\ntrees:')
    file.write_text(with_group.replace("local: house", "local: phones"))
    sluice("edit", "group", "join", "phones", "10.7.0.9", "02:00:5e:10:00:07")
    line = next(one for one in file.read_text().splitlines() if "phones:" in one)
    assert line.startswith('  phones: ["10.7.0.4", 10.7.0.5, 10.7.0.9, ') and line.endswith("]  # on desks")
    assert "has “10.7.0.9” already" in sluice("edit", "group", "join", "phones", "10.7.0.9").stderr
    assert "has no “10.7.0.8”" in sluice("edit", "group", "leave", "phones", "10.7.0.8").stderr
    everybody = ("10.7.0.4", "10.7.0.5", "10.7.0.9", "02:00:5e:10:00:07")
    assert "would be empty" in sluice("edit", "group", "leave", "phones", *everybody).stderr
    sluice("edit", "group", "leave", "phones", *everybody[2:])
    assert file.read_text() == with_group.replace("local: house", "local: phones")
    same = sluice("edit", "limiter", "set", "guest", "down=2 Mbit/s")
    assert same.stdout == "sluice.yaml: nothing changed\n" and same.returncode == 0
    assert "2 edits undone; nothing else" in sluice("edit", "undo", "9").stdout


def test_a_leaf_that_rules_use_is_split_and_several_steps_are_one_edit(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    steps = (
        "queue split rest files vpn",
        "rule add Tunnels service=tunnels queue=rest/vpn",
        "site timezone=Europe/Dublin",
    )
    assert sluice("edit", "together", *steps).returncode == 0
    plan = load(file)
    assert [leaf.path for leaf in plan.trees["main"].leaves] == ["calls", "rest/files", "rest/vpn"]
    assert next(leaf.path for leaf in plan.trees["main"].leaves if leaf.default) == "rest/files"
    assert (plan.rules[-1].queues, plan.timezone) == ({"main": "rest/vpn"}, "Europe/Dublin")
    assert "1 edit undone" in sluice("edit", "undo").stdout
    assert file.read_text() == SMALL_PLAN
    # A step that would be an error alone is none if a later one mends it; one that is an error stops them all.
    assert sluice("edit", "together", "rule add X port=9 queue=new", "queue add new").returncode == 0
    assert sluice("edit", "together", "queue add other", "rule remove nobody").returncode == 2
    assert "other" not in file.read_text()
    sluice("edit", "queue", "split", "calls", "desk", "mobile")
    assert load(file).rules[0].queues == {"main": "calls/desk"}
    assert "has children" in sluice("edit", "queue", "split", "calls", "a", "b").stderr


def test_comments_of_a_first_plan_follow_their_figures(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "answers.yaml").write_text(
        "site: X\nuplinks: {line: {interface: wan0, kind: fibre, advertised: {down: 100 Mbit/s, up: 40 Mbit/s}}}\n"
        "networks: {home: {interface: lan0, subnets: [192.0.2.0/24]}}\nfirst: [calls]\n"
    )
    assert sluice("new", "--from", "answers.yaml", "--output", "new.yaml", "--no-forecast").returncode == 0
    sluice("edit", "uplink", "set", "line", "down=60 Mbit/s", "-p", "new.yaml")
    text = (tmp_path / "new.yaml").read_text()
    # 60 less 5% is 57; of that, calls are guaranteed 20%.
    assert "down: 60 Mbit/s" in text and "; 57 Mbit/s is usable" in text
    calls = next(line for line in text.splitlines() if line.lstrip().startswith("calls:"))
    share = int(calls.partition("guarantee: ")[2].partition("%")[0])
    assert f"at least {57 * share / 100:.3g} Mbit/s down" in calls


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


def test_a_fix_leaves_what_a_plan_does_and_an_improvement_asks(sluice: Sluice, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    tight = SMALL_PLAN.replace("rules:", "  tight: {local: 10.7.1.9, per: host, down: 3 Mbit/s}   # no use\nrules:")
    text = tight + "  - {local: house, protocol: udp, port: 5004-5005, queue: calls}\n"
    file.write_text(text)
    found = sluice("check")
    assert "[limiter-redundant]" in found.stdout and "`sluice check --fix` may fix 2" in found.stdout
    assert sluice("check", "--fix", "--dry-run").returncode == 0
    assert file.read_text() == text
    fixed = sluice("check", "--fix").stdout
    assert "tight: it would remove limiter tight (3 Mbit/s down) [limiter-redundant]" in fixed
    assert file.read_text() == tight and "`sluice check --improve` makes this fix" in fixed
    assert "no terminal to confirm on" in sluice("check", "--improve").stderr
    assert file.read_text() == tight
    improved = sluice("check", "--improve", "--yes").stdout
    assert "gone    limiter tight: 3 Mbit/s down" in improved and "-  tight:" in improved
    assert file.read_text() == SMALL_PLAN
    assert sluice("edit", "undo").returncode == 0
    assert file.read_text() == tight


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
    done = sluice("prove", "--filter", "Calls", "--junit", "results.xml")
    assert done.returncode == 0
    assert "2 kept" in done.stdout and "  15  boundary  Calls" in done.stdout
    assert (tmp_path / "results.xml").read_text().startswith("<?xml")
    found = json.loads(sluice("prove", "--filter", "limiter", "--json").stdout)["promises"]
    expected = [(13, "kept", "4 Mbit/s for 2 hosts")]
    assert [(one["line"], one["verdict"], one["expected"]) for one in found] == expected
    assert sluice("prove", "--filter", "nobody").returncode == 2
    assert sluice("prove", "--filter", "guarantee", "--strict").returncode == 1  # a first priority needs no guarantee


def test_a_run_of_the_lab_is_compared_with_itself_and_two_kinds_are_not(sluice: Sluice, tmp_path: Path) -> None:
    rows = [{"name": "Call", "way": "up", "kind": "call", "goodput": 64_000, "sent": 1000, "loss": loss, "p50": p50,
             "delays": [p50] * 60}
            for loss, p50 in ((0.2, 90_000_000), (0.0, 9_000_000))]  # fmt: skip
    (tmp_path / "lab.json").write_text(json.dumps({"before": [rows[0]], "after": [rows[1]]}))
    (tmp_path / "other.json").write_text(
        json.dumps({"promises": [{"promise": "cap", "name": "a", "where": "b", "rate": 1}]})
    )
    done = sluice("compare", "lab.json", "--picture", "change.png")
    assert done.returncode == 0, done.stderr
    assert "Call, up: p50" in done.stdout and "-90.0%" in done.stdout and "better" in done.stdout
    assert "-20.0 points" in done.stdout and (tmp_path / "change.png").stat().st_size > 5_000
    for row in rows:
        del row["delays"]
    (tmp_path / "bare.json").write_text(json.dumps({"before": [rows[0]], "after": [rows[1]]}))
    bare = sluice("compare", "bare.json")  # of which nobody can say what is noise
    assert bare.returncode == 3 and "--json --delays" in bare.stderr
    refused = sluice("compare", "lab.json", "other.json")
    assert refused.returncode == 3 and "nothing in common" in refused.stderr
    assert sluice("compare", "other.json").returncode == 3
