"""The report of a month: what stands in it can be worked out again, and a browser shows it whole."""

import csv
import re
import shutil
import subprocess
import sys
import time
from collections import defaultdict
from pathlib import Path
from statistics import median

import pytest

from tests.views.month import write_month
from wily_sluice import examples
from wily_sluice.history.usage import Period
from wily_sluice.outside.files import load
from wily_sluice.plan.groups.members import host_names
from wily_sluice.units import parse_size
from wily_sluice.views.report.contents import QuotaRow, gather, write_csv
from wily_sluice.views.report.page import page

PLAN = Path(examples.__file__).with_name("saltmarsh.yaml")
BROWSER = shutil.which("chromium")


@pytest.fixture(scope="module")
def month(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the page, `csv` beside it, and how long it took."""
    folder = tmp_path_factory.mktemp("month")
    write_month(PLAN, folder / "state", int(time.time()))
    words = ["report", "--plan", str(PLAN), "--last", "30 days", "--tables", "csv", "--state", "state"]
    done = subprocess.run(
        [sys.executable, "-m", "wily_sluice", *words], cwd=folder, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout == "wrote report.html, 7 files into csv\n"
    return folder


def rows(page: str, title: str) -> list[list[str]]:
    """The rows of the table below a title."""
    table = page[page.index(f"<h2>{title}</h2>") :]
    table = table[table.index("<table>") : table.index("</table>")]
    return [re.findall(r"<td[^>]*>(.*?)</td>", row) for row in re.findall(r"<tr>(.*?)</tr>", table)][1:]


def counted(folder: Path, subject: str) -> dict[tuple[str, str], list[int]]:
    """Bytes of each step, by name and direction."""
    found: dict[tuple[str, str], list[int]] = defaultdict(list)
    with (folder / "csv" / f"{subject}.csv").open() as file:
        for row in csv.DictReader(file):
            found[row["name"], row["direction"]].append(int(row["bytes"]))
    return found


def test_every_figure_can_be_worked_out_from_the_csv(month: Path) -> None:
    page = (month / "report.html").read_text()
    queues = counted(month, "queue")
    for way in ("down", "up"):
        table = rows(page, f"fibre, {way}: each queue")
        assert len(table) == 7
        for name, moved, mean, busiest, *_ in table:
            sizes = queues[name, way]
            assert parse_size(moved) == pytest.approx(sum(sizes), rel=0.006)
            assert rate(mean) == pytest.approx(sum(sizes) * 8 / (721 * 3600), rel=0.008)  # the hour now is in it
            assert rate(busiest) == pytest.approx(max(sizes) * 8 / 3600, rel=0.006)
    hosts = counted(month, "host")
    named = {"specialist": "", "scanner": "10.61.0.70"}
    with (month / "csv" / "host.csv").open() as file:
        trips = [(row["name"], int(row["beyond_ns"])) for row in csv.DictReader(file) if row["beyond_ns"] != "0"]
    for name, down, up, _, beyond in rows(page, "Who used it"):
        address = named.get(name, name)
        assert milliseconds(beyond) == pytest.approx(
            median(trip for of, trip in trips if of == address) / 1e6, rel=0.01
        )
        assert parse_size(down) == pytest.approx(sum(hosts[address, "down"]), rel=0.006)
        assert parse_size(up) == pytest.approx(sum(hosts[address, "up"]), rel=0.006)
    (limiter,) = rows(page, "Limiters")
    assert limiter[0] == "backup-by-day, up" and limiter[4] == "720 of 721 steps"
    with (month / "csv" / "measurements.csv").open() as file:
        measured = list(csv.DictReader(file))
    for kept, row in zip(measured, rows(page, "The line, measured"), strict=True):
        assert rate(row[2]) == pytest.approx(float(kept["down"]), rel=0.006)
        assert ("slower" in row[-1]) == (float(kept["down"]) < 0.95 * 0.92 * 180e6)
    assert "revision 1, kept: more for scans" in page and page.count("<svg") == 18


def milliseconds(text: str) -> float:
    number, unit = text.split()
    return float(number) * {"ms": 1.0, "s": 1e3}[unit]


def rate(text: str) -> float:
    number, unit = text.split()
    return float(number) * {"kbit/s": 1e3, "Mbit/s": 1e6, "Gbit/s": 1e9}[unit]


def test_the_page_stands_alone(month: Path) -> None:
    page = (month / "report.html").read_text()
    for reference in re.findall(r"""(?:href|src)="([^"]*)"|url\(([^)]*)\)""", page):
        assert "".join(reference).startswith(("#", "data:")), reference[:80]
    assert "<script" not in page and "http://www.w3.org" in page


@pytest.mark.skipif(BROWSER is None, reason="needs a browser: chromium")
@pytest.mark.parametrize(("width", "height"), [(1280, 800), (390, 844)])
def test_a_browser_shows_it_without_overflow_or_error(month: Path, width: int, height: int) -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as drive:
        browser = drive.chromium.launch(executable_path=BROWSER, args=["--no-sandbox"])
        view = browser.new_page(viewport={"width": width, "height": height})
        told: list[str] = []
        view.on("console", lambda message: told.append(message.text))
        view.on("pageerror", lambda error: told.append(str(error)))
        view.goto((month / "report.html").as_uri())
        assert view.evaluate("document.documentElement.scrollWidth") <= width
        wide = "[...document.querySelectorAll('svg')].filter(e => e.getBoundingClientRect().right > innerWidth).length"
        assert view.evaluate(wide) == 0
        flat = "[...document.querySelectorAll('svg')].filter(e => e.getBoundingClientRect().height < 40).length"
        assert view.evaluate(flat) == 0 and not told
        browser.close()


@pytest.mark.skipif(BROWSER is None, reason="needs a browser: chromium")
@pytest.mark.slow
def test_it_is_printed(month: Path) -> None:
    words = [
        "report",
        "--plan",
        str(PLAN),
        "--last",
        "30 days",
        "--state",
        "state",
        "--pdf",
        "a.pdf",
        "--picture",
        "a.png",
    ]
    done = subprocess.run(
        [sys.executable, "-m", "wily_sluice", *words], cwd=month, capture_output=True, text=True, check=False
    )
    assert done.stdout == "wrote report.html, a.pdf, a.png\n", done.stderr
    assert (month / "a.pdf").read_bytes().startswith(b"%PDF") and (month / "a.png").stat().st_size > 30_000


def test_hosts_have_the_names_of_groups_of_one_address(month: Path) -> None:
    named = host_names(load(PLAN))
    assert named["10.61.0.70"] == "scanner" and named["fd61:0:0:1::80"] == named["10.61.0.80"] == "backup-box"
    assert "10.61.0.40" not in named  # a group of several
    words = [sys.executable, "-m", "wily_sluice", "usage", "--state", "state", "--last", "30 days", "--by", "host"]
    table, data = (
        subprocess.run([*words, *more], cwd=month, capture_output=True, text=True, check=True).stdout
        for more in ((), ("--json",))
    )
    assert "scanner 10.61.0.70" in table and "scanner" not in data and '"10.61.0.70"' in data


def test_a_quota_is_told_for_who_has_used_most_of_it(tmp_path: Path) -> None:
    file = shutil.copytree(PLAN.parent, tmp_path / "site") / PLAN.name
    limiter = "{local: 10.61.0.0/24, per: host, down: 1 Mbit/s, quota: 40 GB per month, starts: 5}"
    file.write_text(PLAN.read_text().replace("limiters:\n", f"limiters:\n  month: {limiter}\n", 1))
    period = Period(1_795_000_000, 3600, 24)  # 18 November 2026
    asked: list[tuple[str, str]] = []

    def used(name: str, since: str) -> dict[bytes, int]:
        asked.append((name, since))
        return {bytes([10, 61, 0, 70]): 30_000_000_000, bytes([10, 61, 0, 71]): 10}

    report = gather(load(file), period, [], [], used=used)
    assert report.quotas == (QuotaRow("month", "2026-11-05", 40_000_000_000, "scanner", 30_000_000_000),)
    assert asked == [("month", "2026-11-05")]
    (written,) = (one for one in write_csv(report, tmp_path / "csv") if one.stem == "quotas")
    assert "month,2026-11-05,40000000000,scanner,30000000000" in written.read_text()
    assert "75%" in page(report)
