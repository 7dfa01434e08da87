"""First plans of six families and offices, typed on a terminal, kept as promised on real packets."""

from pathlib import Path

import pexpect
import pytest

from tests.cli.conftest import talk
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.promises import promises
from wily_sluice.outside.files import examine
from wily_sluice.rig.promises.prove import prove_on_rig

pytestmark = [pytest.mark.live, pytest.mark.slow]
HOME, BESIDE = "192.0.2.0/24, 2001:db8:1::/64", "198.51.100.0/24"
GUESTS_TOO = [("another network", "y"), ("interface", "lan1"), ("subnets", BESIDE), ("name", "guests")]
FIBRE, CABLE = [("kind", "1"), ("name", "fibre")], [("kind", "4"), ("name", "cable")]
NEVER_TOLD = [("advertised", "")]


def typed(
    line: list[tuple[str, str]], measured: str, networks: list[tuple[str, str]], *rest: tuple[str, str]
) -> list[tuple[str, str]]:
    """Answers to all questions, in their order; `rest` from what matters most on."""
    return [
        ("name of the site", "Tern Terrace"), ("time zone", "Europe/Dublin"), *line, ("interface", "wan0"), *NEVER_TOLD,
        ("measured", measured), ("another uplink", "n"), ("interface", "lan0"), ("subnets", HOME), ("name", "home"),
        *networks, ("another network", "n"), *rest,
    ]  # fmt: skip


FAMILIES = {
    "guests in the evening": typed(
        CABLE, "100/20", GUESTS_TOO,
        ("first", "calls play"), ("films", "films.example"), ("guests", "y"), ("network", "guests"), ("at most", "5/1"),
        ("one host", "n"), ("alike", "n"), ("when", "18:00-23:00"),
    ),
    "play before calls": typed(
        [("kind", "3"), ("name", "copper")], "62/16", [],
        ("first", "games calls"), ("films", ""), ("one host", "y"), ("address", "192.0.2.77"), ("at most", "20/2"),
        ("alike", "y"), ("when", ""),
    ),
    "a shop with little up": typed(
        CABLE, "80/6", GUESTS_TOO,
        ("first", "calls web"), ("films", ""), ("guests", "y"), ("network", "guests"), ("at most", "4/0.5"),
        ("one host", "n"), ("alike", "y"), ("when", "mon-sat 09:00-19:00"),
    ),
    "an office of tunnels": typed(
        [("kind", "2"), ("name", "fibre")], "28/5.6", [],
        ("first", "meetings work"), ("films", ""), ("one host", "n"), ("alike", "n"),
    ),
    "films before all": typed(
        FIBRE, "180/24", GUESTS_TOO,
        ("first", "streaming calls"), ("films", "films.example, music.example"), ("guests", "y"),
        ("network", "guests"), ("at most", "10/2"), ("one host", "n"), ("alike", "y"), ("when", ""),
    ),
    "a radio line": typed(
        [("kind", "6"), ("name", "radio")], "40/10", [],
        ("first", ""), ("films", "films.example"), ("one host", "n"), ("alike", "y"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("family", FAMILIES)
def test_a_plan_that_was_typed_is_kept_in_the_lab_and_on_a_rig(family: str, tmp_path: Path) -> None:
    talking = talk(tmp_path, FAMILIES[family])
    talking.expect("Write sluice.yaml")
    talking.sendline("y")
    talking.expect(pexpect.EOF)
    file = tmp_path / "sluice.yaml"
    plan, findings = examine(file)
    assert plan is not None and not [one for one in findings if one.severity != "note"]
    bench = Bench(plan)
    lab, rig = prove_on_rig(bench, promises(bench), file, lambda _: None)
    verdicts = [(one.kind, one.name, one.where, one.verdict, one.expected, one.measured) for one in (*lab, *rig)]
    assert not [one for one in verdicts if one[3] == "broken"]
    assert [one.verdict for one in rig[:-1] if one.verdict != "not tried"] == [
        simulated.verdict for simulated, real in zip(lab, rig, strict=False) if real.verdict != "not tried"
    ]
