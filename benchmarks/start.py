"""How long commands take to start, as multiples of `import click`: `python -m benchmarks.start`.

Every command is run in turn, round by round, and the fastest of its rounds counts: what else the machine does only ever
adds to it.
"""

import os
import subprocess
import sys
import time
from pathlib import Path

from wily_sluice import examples

ROUNDS = 15
PLAN = str(examples.folder() / examples.PLAN)
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
}


def main() -> None:
    """Measure, and print the table."""
    best = dict.fromkeys(MEASURED, float("inf"))
    usual = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    for _ in range(ROUNDS):
        for name, (words, variables, _) in MEASURED.items():
            begun = time.perf_counter()
            subprocess.run(words, env=usual | variables, stdout=subprocess.DEVNULL, check=True)
            best[name] = min(best[name], time.perf_counter() - begun)
    first = next(iter(best.values()))
    print("| command | time, of `import click` | at most |\n|---|---|---|")
    for name, (_, _, most) in MEASURED.items():
        print(f"| `{name}` | {best[name] / first:.1f} | {most if most is not None else '–'} |")


if __name__ == "__main__":
    main()
