"""How long commands take to start, as multiples of `import click`: `python -m benchmarks.start`.

Every command is run in turn, round by round, and the fastest of its rounds counts: what else the machine does only ever
adds to it.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from wily_sluice import examples

ROUNDS = 15
PLAN = str(examples.folder() / examples.PLAN)
LARGE = "large.yaml"  # in a folder of its own while it is measured
EDIT = ("edit", "rule", "set", "Handsets", "note=again", "--dry-run", "--plan")
SLUICE = str(Path(sys.executable).with_name("sluice"))
MEASURED: dict[str, tuple[list[str], dict[str, str], float | None]] = {  # its words, its environment, what it may take
    "python -c 'import click'": ([sys.executable, "-c", "import click"], {}, None),
    "sluice --help": ([SLUICE, "--help"], {}, 2.5),
    "completion of a command": (
        [SLUICE],
        {"COMP_WORDS": "sluice ch", "COMP_CWORD": "1", "_SLUICE_COMPLETE": "bash_complete"},
        2.5,
    ),
    "sluice check, the demo's plan": ([SLUICE, "check", PLAN], {}, 5.0),
    "sluice show, the demo's plan": ([SLUICE, "show", PLAN], {}, None),
    "sluice split, the demo's plan": ([SLUICE, "split", PLAN], {}, None),
    "sluice edit, the demo's plan": ([SLUICE, *EDIT, PLAN], {}, None),
    "sluice edit, a plan of 2,000 rules": ([SLUICE, *EDIT, LARGE], {}, None),
}


def large_plan() -> str:
    """The demo's plan with 2,000 rules more, none of which takes anything of another."""
    rules = "".join(
        f"  - {{name: Rule {n}, local: surgery, remote: 198.51.100.{64 + n % 16}, port: {20_000 + n}, queue: desk}}\n"
        for n in range(2000)
    )
    return Path(PLAN).read_text().replace("rules:\n", f"rules:\n{rules}")


def main() -> None:
    """Measure, and print the table."""
    with tempfile.TemporaryDirectory() as folder:
        shutil.copy(examples.folder() / examples.PLACES, folder)
        (Path(folder) / LARGE).write_text(large_plan())
        _measure(folder)


def _measure(folder: str) -> None:
    best = dict.fromkeys(MEASURED, float("inf"))
    usual = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    for _ in range(ROUNDS):
        for name, (words, variables, _) in MEASURED.items():
            begun = time.perf_counter()
            subprocess.run(words, env=usual | variables, stdout=subprocess.DEVNULL, cwd=folder, check=True)
            best[name] = min(best[name], time.perf_counter() - begun)
    first = next(iter(best.values()))
    print("| command | time, of `import click` | at most |\n|---|---|---|")
    for name, (_, _, most) in MEASURED.items():
        print(f"| `{name}` | {best[name] / first:.1f} | {most if most is not None else '–'} |")


if __name__ == "__main__":
    main()
