"""Kinds of traffic against the figures of their sources, and how each responds to a line."""

from collections.abc import Callable, Sequence
from random import Random

import pytest

from tests.engine.driving import conversation
from wily_sluice.engine.line import Line
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.errors import SluiceError
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.kinds.registry import KINDS, Choices, Judgement, page_opinion
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.streaming import LADDER
from wily_sluice.forecast.lab.meter import Measured, Meter
from wily_sluice.forecast.lab.path import BareLine
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND

M = 1_000_000
BETA = 0.5772  # Euler's constant: the mean of an extreme value distribution is this many scales above its location


class World:
    """One line with the same rate both ways, 10 ms and a buffer of 200 ms."""

    def __init__(self, rate: int, seconds: int = 60) -> None:
        self.events, self.end = Events(), seconds * SECOND
        buffer = rate // 8 // 5
        self.up, self.down = (BareLine(self.events, Line(rate, 10 * MILLISECOND, buffer, lambda _: None)) for _ in "ud")
        self.sources: list[Source] = []

    def put(self, kind: str, seed: int = 1, warmup: int = 0, **choices: object) -> list[Meter]:
        """One of a kind; the meters of its directions."""
        random, talk, meters, courses = Random(seed), conversation(100 + len(self.sources)), [], []
        for way in KINDS[kind].ways:
            meters.append(Meter(warmup * SECOND, self.end))
            ways = (self.down, self.up) if way == "down" else (self.up, self.down)
            courses.append(Course(self.events, talk, meters[-1], self.end, ETHERNET, *ways, random))
        opened = KINDS[kind].open(courses, Choices(**choices))  # type: ignore[arg-type]
        self.sources += opened
        for source in opened:
            self.events.at(0, source.begin)
        return meters

    def run(self) -> None:
        self.events.run(self.end + 3 * SECOND)

    def judge(self, kind: str, sources: Sequence[Source] | None = None) -> Judgement:
        judged = KINDS[kind].judge(sources or self.sources)
        assert judged is not None
        return judged


def alone(kind: str, rate: int, seconds: int = 60, **choices: object) -> tuple[list[Measured], World]:
    world = World(rate, seconds)
    meters = world.put(kind, **choices)
    world.run()
    return [meter.result() for meter in meters], world


@pytest.mark.parametrize(
    ("kind", "gaps", "sizes"),
    [  # ms between packets and bytes of data, up and down
        ("call", (20, 20), (160, 160)),
        ("play", (40 + 6 * BETA, 55 + 6 * BETA), (45 + 5.7 * BETA, 120 + 36 * BETA)),
    ],
)
def test_gaps_and_sizes_are_those_of_the_source(
    kind: str, gaps: tuple[float, float], sizes: tuple[float, float]
) -> None:
    for measured, gap, size in zip(alone(kind, 100 * M, 300)[0], gaps, sizes, strict=True):
        assert 300_000 / measured.sent == pytest.approx(gap, rel=0.01)
        assert measured.goodput / 8 * gap / 1000 == pytest.approx(size, rel=0.02)


def test_pages_have_their_mean_size_and_number_of_objects() -> None:
    measured, world = alone("pages", 1000 * M, 3000)
    figures = world.judge("pages").figures
    size = measured[0].goodput * 3000 / 8 / figures["loaded"]
    assert figures["loaded"] > 250 and size == pytest.approx(2 * M, rel=0.15)
    assert alone("pages", 1000 * M, 3000, size=M)[0][0].goodput < 0.7 * measured[0].goodput


def test_a_page_of_the_least_time_has_the_best_opinion_and_one_of_all_patience_the_worst() -> None:
    assert (page_opinion(0.165, 15), page_opinion(15, 15)) == (5, pytest.approx(1))
    assert page_opinion(1.0) > page_opinion(1.5) > 3


@pytest.mark.parametrize("size", [1, 1448, 1449, 1_000_000])
@pytest.mark.parametrize("rate", [1 * M, 50 * M])
def test_a_transfer_brings_exactly_its_bytes_in_no_less_than_their_time(rate: int, size: int) -> None:
    world = World(rate)
    meters = world.put("download", size=size)
    world.run()
    assert meters[0].bytes == size
    took = world.judge("download").figures["time_p50"]
    least = 0.01 + size * 8 / rate
    assert least <= took < 2 * least + 0.2
    world = World(rate)
    meters = world.put("download", size=size, every=20 * SECOND)
    world.run()
    assert meters[0].bytes == 3 * size and world.judge("download").figures["complete"] == 3


@pytest.mark.parametrize(("rate", "least", "most"), [(10 * M, 2.2, 2.6), (1 * M, 0.5, 0.95)])
def test_a_meeting_takes_what_the_line_bears_and_is_shown(rate: int, least: float, most: float) -> None:
    measured, world = alone("meeting", rate, 120)
    for one in measured:
        assert least * M < one.goodput < most * M and one.loss < 0.02
    assert world.judge("meeting").figures["shown"] > 0.97


def test_pictures_of_a_meeting_are_missed_where_a_line_is_full_and_come_back() -> None:
    world = World(2 * M, 120)
    world.put("meeting")
    meeting = list(world.sources)
    world.put("upload")
    world.run()
    assert world.judge("meeting", meeting[:1]).score < world.judge("meeting", meeting[1:]).score


@pytest.mark.parametrize(("rate", "stalls"), [(20 * M, False), (1 * M, False), (M * 3 // 10, True)])
def test_a_film_stands_still_only_where_its_lowest_quality_is_too_much(rate: int, stalls: bool) -> None:
    measured, world = alone("film", rate, 120)
    figures = world.judge("film").figures
    assert (figures["stalls"] > 0) == stalls and (figures["stalled"] > 5) == stalls
    if rate == 20 * M:
        assert figures["video_rate"] > 0.8 * LADDER[-1] and figures["started"] < 0.5
    assert measured[0].goodput < rate


def test_a_game_is_playable_within_its_budget_and_not_beyond() -> None:
    assert alone("play", 10 * M)[1].judge("play").figures["playable"] == 1
    world = World(10 * M)
    world.put("play")
    world.put("upload")  # fills 200 ms of buffer
    world.run()
    assert world.judge("play", world.sources[:1]).figures["playable"] < 0.2
    assert world.judge("play", world.sources[1:2]).figures["playable"] > 0.95


def test_a_swarm_uses_an_idle_line_within_its_target_and_gives_way_to_others() -> None:
    world = World(10 * M)
    mine = world.put("swarm", warmup=20)[0].result
    world.run()
    assert mine().goodput > 8.5 * M and (mine().p50 or 0) < 125 * MILLISECOND
    world = World(10 * M)
    mine, other = world.put("swarm", warmup=20)[0].result, world.put("download", warmup=20)[0].result
    world.run()
    assert mine().goodput < 0.2 * other().goodput


def test_the_same_seed_gives_the_same_and_another_does_not(
    small_plan: Callable[..., Plan],
) -> None:
    for kind in ("meeting", "play", "film", "pages"):
        first, again, other = (World(5 * M, 20) for _ in range(3))
        figures = []
        for world, seed in ((first, 1), (again, 1), (other, 2)):
            meters = world.put(kind, seed)
            world.run()
            figures.append([meter.result() for meter in meters])
        assert figures[0] == figures[1] != figures[2], kind


@pytest.mark.parametrize(
    ("what", "told"),
    [
        ("kind: call, size: 4 MB", "call has no size"),
        ("kind: download, every: 4 s", "only for what ends"),
        ("kind: film, every: 4 s", "only for what ends"),
        ("kind: download, size: 0 MB", "cannot be simulated"),
        ("kind: play, size: 4 MB", "play has no size"),
    ],
)
def test_what_a_kind_does_not_have_is_an_error_with_its_line(
    small_plan: Callable[..., Plan], traffic: Callable[..., Traffic], what: str, told: str
) -> None:
    one = "  - {name: One, local: 10.7.0.9, remote: 203.0.113.6, %s}\n"
    plan = small_plan()
    assert traffic(plan, one % "kind: scan, every: 4 s, size: 1 MB", one % "kind: pages, size: 1 MB").applications
    with pytest.raises(SluiceError) as caught:
        traffic(plan, one % "kind: call", one % what)
    assert told in str(caught.value) and ":7:" in str(caught.value)
