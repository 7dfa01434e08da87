"""Drives the built program on files in a temporary folder, as a person would."""

import csv
import io
import json
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import click
import jsonschema
import pytest
from click.testing import CliRunner

from tests.cli.conftest import PROGRAM, Sluice
from tests.conftest import SMALL_PLAN
from wily_sluice import examples
from wily_sluice.cli import main
from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.counts import Counts, Key
from wily_sluice.plan.file.yaml_text import parse


def commands(group: click.Group, path: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    """Every command, by the words that call it."""
    yield path
    context = click.Context(group)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            yield from commands(command, (*path, name))
        else:
            yield (*path, name)


@pytest.mark.parametrize("name", main.COMMANDS)
def test_the_list_of_commands_says_what_each_of_them_says(name: str) -> None:
    command = main.sluice.get_command(click.Context(main.sluice), name)
    assert command is not None and command.help is not None
    assert command.help.splitlines()[0] == main.COMMANDS[name].summary


def test_what_a_command_is_called_elsewhere_leads_to_it(sluice: Sluice) -> None:
    for word, meant in (("chekc", "check"), ("simulate", "lab"), ("rollback", "undo")):
        done = sluice(word)
        assert (done.returncode, f"did you mean “{meant}”?" in done.stderr) == (2, True)
    assert set(main.SYNONYMS.values()) <= set(main.COMMANDS)
    assert not set(main.SYNONYMS) & set(main.COMMANDS)


def test_a_plan_is_read_from_an_argument_an_option_and_the_standard_input(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "sluice.yaml").rename(tmp_path / "other.yaml")
    assert sluice("check").returncode == 2
    for words in (("other.yaml",), ("-p", "other.yaml")):
        assert sluice("split", *words, "--json").stdout == sluice("split", "--json", SLUICE_PLAN="other.yaml").stdout
        assert sluice("show", "trees", *words).returncode == 0
    assert "given twice" in sluice("check", "other.yaml", "-p", "other.yaml").stderr
    done = subprocess.run([*PROGRAM, "check", "-"], input=SMALL_PLAN, capture_output=True, text=True, cwd=tmp_path)
    assert (done.returncode, done.stdout) == (
        0,
        sluice("check", "other.yaml").stdout.replace("other.yaml", "standard input"),
    )
    assert sluice("show", "framings").returncode == sluice("show", "services").returncode == 0


def test_with_json_errors_are_json_too(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "bad.yaml").write_text("site: [")
    for words, status in ((("split", "bad.yaml"), 2), (("split", "--why", "nowhere"), 2), (("gate", "status"), 3)):
        done = sluice(*words, "--json")
        told = json.loads(done.stdout)
        assert (done.returncode, done.stderr) == (status, "")
        assert told["findings"] if "bad.yaml" in words else told["error"]["status"] == status


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("sluice sp", ["split"]),
        ("sluice show tr", ["trees"]),
        ("sluice split --why ca", ["calls"]),
        ("sluice split --uplink ", ["line"]),
        ("sluice edit queue set calls gua", ["guarantee="]),
        ("sluice edit limiter set guest bu", ["burst="]),
        ("sluice edit limiter set guest burst=9kB bu", []),
        ("sluice edit site zzz", []),
        ("sluice split other.yaml --why wo", ["work"]),
    ],
)
def test_completion_knows_commands_and_the_names_of_the_plan(
    sluice: Sluice, tmp_path: Path, words: str, offered: list[str]
) -> None:
    (tmp_path / "other.yaml").write_text(SMALL_PLAN.replace("calls", "work"))
    typed = words.split(" ")
    told = sluice(COMP_WORDS=words, COMP_CWORD=str(len(typed) - 1), _SLUICE_COMPLETE="bash_complete").stdout
    assert [line.partition(",")[2] for line in told.split() if not line.startswith("file")] == offered


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_there_is_a_script_of_completion_for_each_shell(sluice: Sluice, shell: str) -> None:
    assert "_SLUICE_COMPLETE" in sluice("completion", shell).stdout


def test_files_that_are_right_fit_their_schema_and_others_do_not(sluice: Sluice) -> None:
    folder = examples.folder()
    for kind, name in (("plan", examples.PLAN), ("traffic", examples.TRAFFIC)):
        schema = json.loads(sluice("schema", kind).stdout)
        data, _ = parse((folder / name).read_text())
        jsonschema.validate(data, schema, jsonschema.Draft202012Validator)
        with pytest.raises(jsonschema.ValidationError, match="Additional"):
            jsonschema.validate(data | {"uplnks": {}}, schema, jsonschema.Draft202012Validator)


@pytest.mark.parametrize("command", list(commands(main.sluice)), ids=" ".join)
def test_every_command_has_help_with_an_example(command: tuple[str, ...]) -> None:
    done = CliRunner().invoke(main.sluice, [*command, "--help"], prog_name="sluice")
    assert done.exit_code == 0
    assert f"sluice {' '.join(command)}".strip() in done.output
    assert "Example" in done.output or not command


def test_what_does_not_read_the_gates_folder_runs_beside_a_private_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "access", lambda *_, **__: False)  # as for everybody but root
    printed = CliRunner().invoke(main.sluice, ["gate", "install", "--print", "--state", str(tmp_path)])
    assert (printed.exit_code, "[Service]" in printed.output) == (0, True)


def test_check_ends_with_0_1_or_2(sluice: Sluice, tmp_path: Path) -> None:
    assert sluice("check").returncode == 0
    doubtful = tmp_path / "doubtful.yaml"
    doubtful.write_text(SMALL_PLAN.replace("headroom: 10%", "headroom: 0%"))
    assert sluice("check", "--plan", str(doubtful)).returncode == 0
    strict = sluice("check", "--plan", str(doubtful), "--strict")
    assert strict.returncode == 1
    assert "doubtful.yaml:3: warning: uplinks.line.headroom" in strict.stdout
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN.replace("20 Mbit/s", "20"))
    wrong = sluice("check", "--json")
    assert wrong.returncode == 2
    (finding,) = json.loads(wrong.stdout)["findings"]
    assert (finding["line"], finding["key"]) == (3, "uplinks.line.down")


def test_a_plan_with_errors_is_refused_by_every_command_that_reads_it(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN.replace("queue: calls", "queue: cals"))
    for command in (("show",), ("split",), ("lab", "run", "t.yaml"), ("apply",), ("rig", "up")):
        done = sluice(*command)
        assert done.returncode == 2
        assert done.stdout == ""
        assert "sluice.yaml:15: error: rule Calls, queue" in done.stderr
        assert "Traceback" not in done.stderr


def test_the_plan_is_found_by_option_then_variable_then_folder(sluice: Sluice, tmp_path: Path) -> None:
    for name in ("one", "two"):
        (tmp_path / f"{name}.yaml").write_text(SMALL_PLAN.replace("line:", f"{name}:"))
    assert list(json.loads(sluice("split", "--json").stdout)["uplinks"]) == ["line"]
    assert list(json.loads(sluice("split", "--json", SLUICE_PLAN="one.yaml").stdout)["uplinks"]) == ["one"]
    done = sluice("split", "--json", "-p", "two.yaml", SLUICE_PLAN="one.yaml")
    assert list(json.loads(done.stdout)["uplinks"]) == ["two"]


def test_split_prints_the_split_as_data_and_as_a_table(sluice: Sluice) -> None:
    done = sluice("split", "--json", "--demand", "calls=1 Mbit/s")
    up = json.loads(done.stdout)["uplinks"]["line"]["up"]
    assert up == {
        "usable": 9_000_000,
        "queues": {
            "calls": {
                "guarantee": 1_800_000,
                "cap": 9_000_000,
                "demand": 1_000_000,
                "rate": 1_000_000,
                "goodput": 953_887,  # 1448 of every 1518 bytes
            },
            "rest": {
                "guarantee": 0,
                "cap": 9_000_000,
                "demand": None,
                "rate": 8_000_000,
                "goodput": 7_631_094,
            },
        },
    }
    table = sluice("split").stdout
    assert "18 Mbit/s" in table
    assert "\x1b[" not in table  # no colour into a pipe
    for slip, hint in (
        ("cals=1 Mbit/s", "did you mean “calls”"),
        ("calls=1", "is not a rate"),
        ("calls", "QUEUE=RATE"),
    ):
        refused = sluice("split", "--demand", slip)
        assert refused.returncode == 2
        assert hint in refused.stderr
    data = json.loads(sluice("split", "--worst", "rest", "--why", "rest", "--json").stdout)
    assert data["worst"] == {"rest": {"line": {"down": 0, "up": 0}}}
    assert data["why"]["rest"]["line"]["up"][0]["held"] == "nothing left"
    assert "line up: rest gets least" in sluice("split", "--worst", "rest").stdout
    assert "Nothing is left at priority 5: calls come first." in sluice("split", "--why", "rest").stdout
    assert "That is all it wants." in sluice("split", "--why", "calls", "--demand", "calls=1 Mbit/s").stdout
    assert "there is no uplink “fibre”" in sluice("split", "--uplink", "fibre").stderr


def test_tables_are_printed_as_csv_with_the_figures_of_the_json(sluice: Sluice) -> None:
    rows = list(csv.DictReader(io.StringIO(sluice("split", "--csv").stdout)))
    data = json.loads(sluice("split", "--json").stdout)["uplinks"]
    assert len(rows) == sum(len(way["queues"]) for ways in data.values() for way in ways.values())
    for row in rows:
        queue = data[row["uplink"]][row["direction"]]["queues"][row["queue"]]
        assert {name: row[name] for name in queue} == {
            name: "" if one is None else str(one) for name, one in queue.items()
        }
    assert sluice("split", "--csv", "--why", "calls").returncode == 2
    proven = list(csv.DictReader(io.StringIO(sluice("prove", "--filter", "guarantee", "--csv").stdout)))
    assert proven and {row["promise"] for row in proven} == {"guarantee"} and all(float(row["rate"]) for row in proven)


def test_show_says_it_in_sentences_and_as_data(sluice: Sluice) -> None:
    shown = " ".join(sluice("show").stdout.split())
    assert "a packet of 1500 bytes takes 1518 on the line, one of 100 takes 118" in shown
    assert "Each host of guests can use at most 2 Mbit/s (250 kB/s) down." in shown
    assert "UDP conversations from house on port 5004-5005 go to queue calls." in shown
    assert "All other traffic uses queue rest." in shown
    data = json.loads(sluice("show", "trees", "--json").stdout)
    calls = data["trees"]["line"]["up"]["queues"]["calls"]
    assert (calls["guarantee"], calls["cap"], calls["delay"]["settled"]) == (1_800_000, 9_000_000, 5_000_000)
    assert (
        json.loads(sluice("show", "framings", "--json").stdout)["framings"]["stacks"]["pppoe over atm llc"]["cost"][
            "40"
        ]
        == 106
    )


def test_queues_are_named_by_path_or_by_name_alone(sluice: Sluice, tmp_path: Path) -> None:
    work = "      work: {guarantee: 20%, queues: {desk: {guarantee: 50%}, scans: {}}}\n      rest:"
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN.replace("      rest:", work))
    for option in ("--why", "--worst"):
        assert sluice("split", option, "desk").stdout == sluice("split", option, "work/desk").stdout
    idle = json.loads(sluice("split", "--demand", "desk=idle", "--json").stdout)
    assert idle == json.loads(sluice("split", "--demand", "work/desk=idle", "--json").stdout)
    refused = sluice("split", "--worst", "work")
    assert (refused.returncode, "name one of its leaves, work/desk, work/scans" in refused.stderr) == (2, True)
    own = sluice("classify", "--local", "10.7.0.4", "--remote", "10.7.1.4:80")
    assert (own.returncode, "between local hosts are not shaped" in own.stderr) == (2, True)


def test_lab_run_gives_the_same_bytes_for_the_same_seed(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "traffic.yaml").write_text(
        "duration: 3 s\nseed: 3\napplications:\n"
        "  - {name: Call, kind: call, local: 10.7.0.4, remote: 203.0.113.5, port: 5004}\n"
        "  - {name: Upload, kind: upload, local: 10.7.0.9, remote: 203.0.113.6}\n"
    )
    first, second = sluice("lab", "run", "traffic.yaml", "--json"), sluice("lab", "run", "traffic.yaml", "--json")
    assert first.stdout == second.stdout
    assert {row["name"] for row in json.loads(first.stdout)["after"]} == {"Call", "Upload"}
    table = sluice("lab", "run", "traffic.yaml").stdout
    assert "p99 ms" in table
    assert "times as long" in table


def test_the_demo_keeps_its_promise(sluice: Sluice) -> None:
    done = sluice("lab", "run", str(examples.folder() / examples.TRAFFIC), "--json",
                  SLUICE_PLAN=str(examples.folder() / examples.PLAN))  # fmt: skip
    found = json.loads(done.stdout)
    rows = {
        phase: {(r["name"], r["way"]): r for r in found[phase] if r["kind"] == "call"} for phase in ("before", "after")
    }
    assert len(rows["after"]) == 4
    for key, after in rows["after"].items():
        assert rows["before"][key]["p99"] >= 10 * after["p99"]
    assert found["totals"]["fibre"]["down"]["after"]["goodput"] >= 0.9 * 165_600_000 * 1448 / 1554  # PPPoE over PTM


def test_demo_save_writes_files_that_work_and_overwrites_nothing(sluice: Sluice, tmp_path: Path) -> None:
    assert sluice("demo", "--save", "mine").returncode == 0
    assert sluice("check", "--strict", "--plan", "mine/saltmarsh.yaml").returncode == 0
    again = sluice("demo", "--save", "mine")
    assert again.returncode == 3
    assert "was not overwritten" in again.stderr


def test_output_that_cannot_be_encoded_or_written_ends_in_no_traceback(sluice: Sluice, tmp_path: Path) -> None:
    for encoding in ("ascii", "cp1252"):
        for words in (["show"], ["show", "--json"]):
            environment = {**os.environ, "PYTHONIOENCODING": encoding}
            told = subprocess.run([*PROGRAM, *words], cwd=tmp_path, env=environment, capture_output=True, check=False)
            assert (told.returncode, told.stderr) == (0, b"")
            assert b"house" in told.stdout
            told.stdout.decode(encoding)
    shell = {"/dev/full": "> /dev/full", "closed": ">&-", "both": ">&- 2>&-"}
    for where, redirection in shell.items():
        for command in ("show", "split --json") if where == "/dev/full" else ("check",):
            words = ["sh", "-c", f"{PROGRAM[0]} {command} {redirection}"]
            done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
            assert "Traceback" not in done.stderr
            assert "Exception" not in done.stderr
            if where == "/dev/full":
                assert done.returncode == 3
                assert "standard output: No space left on device" in done.stderr


def test_ctrl_c_ends_a_long_run_without_a_traceback(tmp_path: Path) -> None:
    plan, traffic = (str(examples.folder() / name) for name in (examples.PLAN, examples.TRAFFIC))
    command = [*PROGRAM, "lab", "run", traffic, "--plan", plan]
    run = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
        # Who began the tests in the background may have it ignore the signal, and all that they begin.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )  # fmt: skip
    children = Path(f"/proc/{run.pid}/task/{run.pid}/children")
    while len(children.read_text().split()) < 2:  # until both runs have begun
        assert run.poll() is None
        time.sleep(0.05)
    run.send_signal(signal.SIGINT)
    _, errors = run.communicate(timeout=20)
    assert run.returncode == 130
    assert "Traceback" not in errors


@pytest.mark.skipif(os.geteuid() != 0, reason="asks what happens to root")
def test_a_gate_that_cannot_start_says_why(sluice: Sluice, tmp_path: Path) -> None:
    (tmp_path / "sluice.yaml").unlink()
    done = sluice("gate", "run", SLUICE_STATE="state")
    assert done.returncode == 3
    assert "no plan is kept in state yet, and there is no sluice.yaml here" in done.stderr
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN)
    for command in (["gate", "status"], ["apply", "--yes"], ["keep"], ["undo"], ["watch", "--json"]):
        assert sluice(*command, SLUICE_STATE="state").returncode == 3
    assert "no rig is up" in sluice("rig", "exec", "--name", "none", "gateway", "true").stderr


def test_usage_is_read_when_no_gate_runs_as_a_table_data_csv_and_a_picture(sluice: Sluice, tmp_path: Path) -> None:
    state = tmp_path / "state"
    assert "nothing has been counted" in sluice("usage", "--state", str(state)).stderr
    now = int(time.time())
    store = CounterStore(state)
    for second in range(now - 40, now):
        hosts = {
            Key("host", "", "down", f"10.61.0.{n}"): Counts(bytes=n * 1_000_000, packets=700) for n in range(1, 26)
        }
        store.add(second, hosts)
    store.close()
    words = ("usage", "--state", str(state), "--last", "10 min", "--by", "host")
    table = sluice(*words).stdout
    # 25 MB a second are 200 Mbit/s; over ten minutes, 13.3 in the mean.
    assert table.splitlines()[1].split()[:8] == ["10.61.0.25", "down", "1", "GB", "13.3", "Mbit/s", "200", "Mbit/s"]
    assert "5 more used less" in table
    uses = json.loads(sluice(*words, "--json").stdout)["uses"]
    assert {use["host"]: use["bytes"] for use in uses} == {f"10.61.0.{n}": 40 * n * 1_000_000 for n in range(1, 26)}
    rows = list(csv.DictReader(sluice(*words, "--filter", "0.25", "--csv").stdout.splitlines()))
    assert sum(int(row["bytes"]) for row in rows) == 1_000_000_000
    begun = datetime.fromtimestamp(now - 60, UTC).isoformat()
    at = ("usage", "--state", str(state), "--by", "host", "--filter", "0.25", "--from", begun)
    some = list(csv.DictReader(sluice(*at, "--step", "second", "--csv").stdout.splitlines()))
    assert [row["bytes"] for row in some] == [row["bytes"] for row in rows]
    assert datetime.fromisoformat(some[0]["from"]).timestamp() == now - 40
    assert "no traffic from" in sluice(*at[:3], "--at", "2026-01-05T10:00").stdout
    assert "give one of --last, --from and --at" in sluice(*at, "--at", begun).stderr
    assert "yesterday 15:00" in sluice(*at[:5], "--from", "lunch").stderr
    assert sluice(*words, "--picture", "usage.png").returncode == 0
    assert (tmp_path / "usage.png").read_bytes().startswith(b"\x89PNG")
    assert sluice(*words, "--picture", "usage.gif").returncode == 2


@pytest.mark.parametrize(
    ("words", "now"),
    [
        (("usage", "--png", "a.png"), "--picture"), (("usage", "--only", "a"), "--filter"),
        (("watch", "--seconds", "3"), "--for"), (("show", "trees", "--svg", "a.svg"), "--picture"),
        (("prove", "--only", "rule"), "--filter"), (("report", "--out", "a.html"), "--output"),
        (("report", "--csv", "a"), "--tables"),
    ],
)  # fmt: skip
def test_an_option_that_was_renamed_is_refused_with_its_name(sluice: Sluice, words: tuple[str, ...], now: str) -> None:
    done = sluice(*words)
    assert done.returncode == 2 and f"{words[-2]} is called {now}" in done.stderr
