"""Makes the demo's series of a mobile line, which is made up: `python -m tools.make_mobile`.

A line as a modem by the window may see it: its rate wanders, drops when somebody stands before the mast, and comes back.
"""

import math
from pathlib import Path
from random import Random

from wily_sluice import examples

SECONDS, STEP = 60, 0.2
LOWEST, MIDDLE, HIGHEST = 6e6, 22e6, 38e6  # bit/s
FILE = Path(str(examples.folder())) / "saltmarsh-mobile.csv"


def series(seed: int = 61) -> list[tuple[float, int]]:
    """Seconds and bit/s."""
    random, level, shade = Random(seed), math.log(MIDDLE), 0.0
    points = []
    for index in range(round(SECONDS / STEP)):
        level += 0.02 * (math.log(MIDDLE) - level) + random.gauss(0, 0.035)
        if random.random() < STEP / 14:
            shade = random.uniform(0.5, 1.0)
        shade *= 0.93
        rate = min(HIGHEST, max(LOWEST, math.exp(level - shade)))
        points.append((round(index * STEP, 1), round(rate, -4)))
    return [(at, round(rate)) for at, rate in points]


def text() -> str:
    """The file."""
    rows = "".join(f"{at:g},{rate}\n" for at, rate in series())
    return f"seconds,bit_per_second\n{rows}"


if __name__ == "__main__":
    FILE.write_text(text())
