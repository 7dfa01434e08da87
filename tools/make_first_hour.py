"""Records docs/first-hour.md from the real program: `python -m tools.make_first_hour` (root; about ten minutes).

The program is installed from this folder into an empty environment, and then everything is tried on a rig. What the
commands print is the page; only the words between are written here.
"""

import os
import re
import subprocess
import sys
import tempfile
import textwrap
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pexpect

from tools.make_first_ten_minutes import ANSWERS, NAMESPACE, block, gateway

PROJECT = Path(__file__).parents[1]
PAGE = PROJECT / "docs" / "first-hour.md"
PATIENCE = 600  # seconds
HEAD = """\
# The first hour

From a fresh clone to a gate that was measured, watched, changed and proved: commands and their output. The site is built from network namespaces with `sluice rig`, so the hour needs no second machine and touches
no network; on a real gateway the same commands run without `sluice rig exec NODE`.
"""
INSTALL = """\

## 1. Install

{seconds:.0f} seconds on this machine, most of them to compile the engine:

"""
AFTER_NEW = """\

## 2. Write a plan

`sluice new` asks its questions: [the first ten minutes](first-ten-minutes.md) show them all. The line is not measured yet, so the plan
stays below the advertised rate, and `sluice check` says so:

"""
TAIL = """\

The report draws the same figures: [report](report.md). What else there is to do: [recipes](recipes/README.md).
"""


class Hour:
    """A person's shell, in a folder with the plan, and the page that comes of it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.page = HEAD
        self.environment = {
            **os.environ, "TERM": "dumb", "COLUMNS": "100", "HOME": str(folder), "XDG_STATE_HOME": f"{folder}/state",
            "PATH": f"{folder}/sluice/bin:{os.environ['PATH']}",
        }  # fmt: skip
        self.environment.pop("SLUICE_PLAN", None)

    def run(self, command: str, *answers: tuple[str, str], status: int = 0) -> str:
        """What it prints on a terminal; `answers` are typed at its prompts."""
        talking = pexpect.spawn(
            "sh", ["-c", command.replace("sudo ", "")], cwd=self.folder, env=self.environment, encoding="utf-8",
            timeout=PATIENCE, echo=True,
        )  # fmt: skip
        talking.setwinsize(60, 100)
        heard = ""
        for prompt, answer in answers:
            talking.expect(prompt)
            heard += str(talking.before) + str(talking.after)
            talking.sendline(answer)
        talking.expect(pexpect.EOF)
        talking.close()
        heard += str(talking.before)
        if talking.exitstatus != status:
            raise SystemExit(f"{command}: exit status {talking.exitstatus}\n{heard}")
        return re.sub(r"[^\n]*\r(?!\n)", "", heard.replace("\r\n", "\n"))  # of what is drawn over itself, the last

    def show(self, words: str, *commands: str, answers: tuple[tuple[str, str], ...] = (), status: int = 0) -> None:
        """Words, and commands with what they print."""
        self.page += "".join(f"\n{textwrap.fill(paragraph, 130)}\n" for paragraph in words.split("\n\n") if paragraph)
        for command in commands:
            heard = self.run(command, *answers, status=status)
            self.page += "\n" + block(f"$ {command}\n{heard}")

    @contextmanager
    def beside(self, command: str, until: str) -> Iterator[None]:
        """Something that runs in another terminal, once its output is told; it ends with Ctrl-C."""
        other = pexpect.spawn(
            "sh", ["-c", "exec " + command.replace("sudo ", "")], cwd=self.folder, env=self.environment,
            encoding="utf-8", timeout=60,
        )  # fmt: skip
        other.setwinsize(60, 100)
        try:
            other.expect(until)
            self.page += "\n" + block(f"$ {command}\n{other.before}{other.after}{other.readline()}")
            yield
        finally:
            other.sendintr()
            with suppress(pexpect.TIMEOUT):
                other.expect(pexpect.EOF)
            other.close(force=True)


def install(hour: Hour) -> None:
    """The README's commands, in an empty environment."""
    begun = time.monotonic()
    python = subprocess.run(
        [sys.executable, "-c", "import sys; print(sys.base_prefix)"], capture_output=True, text=True
    )
    base = Path(python.stdout.strip()) / "bin" / "python3"
    hour.run(f"{base} -m venv sluice && sluice/bin/pip install --quiet --disable-pip-version-check {PROJECT}")
    hour.page += INSTALL.format(seconds=time.monotonic() - begun)
    hour.page += block("$ python3 -m venv sluice && sluice/bin/pip install .\n$ export PATH=$PWD/sluice/bin:$PATH\n")
    hour.show("", "sluice --version")


def write(hour: Hour) -> None:
    """A plan, as somebody types it who has not measured the line."""
    typed = [(rf"{prompt}[^\r\n>]*> ", "" if prompt == "measured" else answer) for prompt, answer in ANSWERS]
    with gateway():
        heard = hour.run(f"ip netns exec {NAMESPACE} sluice new", *typed, (r"Write sluice.yaml[^>]*> ", "y"))
    hour.page += AFTER_NEW
    hour.page += block("$ sluice new\n…\n" + re.split(r"(?m)^(?=sluice\.yaml)", heard, maxsplit=1)[1])


def record(hour: Hour) -> None:
    """The hour."""
    install(hour)
    write(hour)
    hour.show(
        "## 3. Build the site to try it on\n\nHosts of each network, the gateway, the line and the far side:",
        "sudo sluice rig up",
    )
    far = re.findall(r"answers at (\S+)", hour.page)[-1]
    hour.page += (
        "\n## 4. Measure the line\n\nAt the far end `sluice gauge serve` runs, in another terminal; nothing else is on "
        "the line:\n"
    )
    with hour.beside("sudo sluice rig exec far sluice gauge serve", "Ctrl-C"):
        hour.show(
            "On the gateway, with the result written into the plan:",
            f"sudo sluice rig exec gateway sluice gauge line {far} --write",
        )
        hour.page += (
            "\n## 5. Shape real packets\n\nWhether this machine can carry it, then the gate, in another terminal:\n"
        )
        hour.show("", "sudo sluice gate cost")
        with hour.beside("sudo sluice rig exec gateway sluice gate run", "Ctrl-C"):
            shaped(hour, far)
        hour.show(
            "After the gate has stopped, its counters are still there:",
            "sudo sluice rig exec gateway sluice usage --last '10 min' --by queue --rows 6",
        )
    hour.show("## 9. Take it down", "sudo sluice rig down")
    hour.page += TAIL


def shaped(hour: Hour, far: str) -> None:
    """While the gate runs."""
    load = subprocess.Popen(
        ["sluice", "rig", "exec", "home", "sluice", "gauge", "line", far, "--no-framing"], cwd=hour.folder,
        env=hour.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        time.sleep(6)
        hour.show(
            "## 6. Watch it\n\nA host of the house fills the line (`sluice rig exec home sluice gauge line …`). On a "
            "terminal the same page is drawn live; `--plain` prints it:",
            "sudo sluice rig exec gateway sluice watch --plain --for '1 s'",
        )
    finally:
        load.wait(timeout=PATIENCE)
    hour.show(
        "## 7. Change something, on trial\n\n`edit` checks and writes the change. The gate takes it on trial, and returns "
        "to the old plan unless you keep the new one:",
        "sluice edit limiter set guest-each down='3 Mbit/s'",
        "sudo sluice rig exec gateway sluice apply --yes --trial '2 min' --note 'a little less for each guest'",
        "sudo sluice rig exec gateway sluice keep",
        "sudo sluice rig exec gateway sluice history",
    )
    hour.show(
        "## 8. Prove it\n\nEach promise of the plan, tested under a flood: all in simulated time, then the limiters on "
        "real packets:",
        "sluice prove",
        "sudo sluice prove --rig --filter limiter",
    )


def main() -> None:
    """Record the page."""
    with tempfile.TemporaryDirectory() as folder:
        hour = Hour(Path(folder))
        try:
            record(hour)
            PAGE.write_text(hour.page.replace(f"{folder}/", "~/"))
        finally:
            with suppress(SystemExit):
                hour.run("sluice rig down")


if __name__ == "__main__":
    main()
