"""The kinds of traffic: how each opens its sources, and what is said of it at the end."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from math import log
from typing import Final

import numpy as np

from wily_sluice.engine.classify.header import CONTROL, TCP, UDP
from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.forecast.lab.kinds.meeting import Meeting
from wily_sluice.forecast.lab.kinds.pages import Pages
from wily_sluice.forecast.lab.kinds.play import Play
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.streaming import LADDER, Film
from wily_sluice.forecast.lab.kinds.talk import CALL_PACKET, LOOKUP, PING_PACKET, Lookups, Ping, Talk
from wily_sluice.forecast.lab.kinds.tcp import Transfer
from wily_sluice.forecast.lab.kinds.transfers import AMOUNTS, Finite
from wily_sluice.units import SECOND, Nanoseconds, Size

WORDS: Final = ("very good", "good", "fair", "poor", "unusable")
PATIENCE: Final = 15.0  # seconds that somebody waits for a page at most (ITU-T G.1030, medium network context)


@dataclass(frozen=True, slots=True)
class Choices:
    """What a traffic file may say of an application beyond who takes part."""

    control: str = "cubic"
    size: Size | None = None
    every: Nanoseconds | None = None


USUAL: Final = Choices()


@dataclass(frozen=True, slots=True)
class Judgement:
    """How an application went for those who used it: a figure, a sentence's end, and figures by name for JSON, times in
    seconds. `score` is from 0 to 1, to tell better from worse; `word` is one of WORDS, or empty where
    only the figure says something.
    """

    figure: str
    words: str
    score: float
    word: str = ""
    figures: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Kind:
    """`ways` are the directions that have a row, in the order of the courses for `open`. `packet` has the kind and the
    length of the packets that carry its data, by which its queue is found. What is `connected` ends with its line.
    """

    protocol: int  # 0 for echoes
    ways: tuple[str, ...]
    packet: tuple[int, Size]
    open: Callable[[Sequence[Course], Choices], list[Source]]
    connected: bool = True
    judge: Callable[[Sequence[Source]], Judgement | None] = lambda _: None


def _word(score: float, least: Sequence[float]) -> str:
    return next((word for word, limit in zip(WORDS, least, strict=False) if score >= limit), WORDS[-1])


def _judge_play(sources: Sequence[Source]) -> Judgement | None:
    parts = [source.playable() for source in sources if isinstance(source, Play)]
    good, seconds = sum(part[0] for part in parts), sum(part[1] for part in parts)
    if not seconds:
        return None
    part = good / seconds
    word = _word(part, (0.99, 0.95, 0.85, 0.6))
    return Judgement(f"{part:.0%}", f"playable for {part:.1%} of the time", part, word, {"playable": part})


def _judge_meeting(sources: Sequence[Source]) -> Judgement | None:
    meetings = [source for source in sources if isinstance(source, Meeting) and source.frames]
    if not meetings:
        return None
    part = sum(one.shown for one in meetings) / sum(one.frames for one in meetings)
    rate = float(np.mean([rate for one in meetings for rate in one.rates]))
    word = _word(min(part, 0.7 + rate / 2e6), (0.995, 0.98, 0.93, 0.8))
    words = f"{part:.1%} of the pictures shown, of {rate / 1e6:.2f} Mbit/s"
    return Judgement(f"{part:.0%}", words, part * (0.5 + rate / 5e6), word, {"shown": part, "video_rate": rate})


def _judge_film(sources: Sequence[Source]) -> Judgement | None:
    films = [source for source in sources if isinstance(source, Film)]
    for film in films:
        film.settle(film.ended())
    started = [film.started for film in films if film.started is not None]
    if not started:
        return Judgement("never", "never began", 0.0, WORDS[-1], {"started": -1.0})
    start, stalls = max(started) / SECOND, sum(film.stalls for film in films)
    stalled = sum(film.stalled for film in films) / SECOND
    quality = float(np.mean([rate for film in films for rate in film.qualities]))
    score = quality / LADDER[-1] / (1 + stalled / 2 + start / 10)
    word = _word(-stalled - start / 4, (-0.5, -1.5, -4.0, -12.0))
    stops = f"stood still {stalls} times, for {stalled:.1f} s" if stalls else "without a stop"
    words = f"began after {start:.1f} s, {stops}, of {quality / 1e6:.1f} Mbit/s"
    figures = {"started": start, "stalls": float(stalls), "stalled": stalled, "video_rate": quality}
    return Judgement(f"{stalled:.1f} s" if stalls else "no stop", words, score, word, figures)


def page_opinion(seconds: float, patience: float = PATIENCE) -> float:
    """The mean opinion score of a page that takes so long (ITU-T G.1030 (02/2014), Annex A), from 1 to 5."""
    least = 0.003 * patience + 0.12
    return max(1.0, min(5.0, 5 + 4 / log(least / patience) * (log(max(seconds, least)) - log(least))))


def _judge_pages(sources: Sequence[Source]) -> Judgement | None:
    people = [source for source in sources if isinstance(source, Pages)]
    times = [time / SECOND for one in people for time in one.times]
    begun = sum(one.begun for one in people)
    if not begun:
        return None
    if not times:
        return Judgement("never", f"none of {begun} pages loaded", 0.0, WORDS[-1], {"begun": float(begun), "loaded": 0})
    middle, late = (float(value) for value in np.percentile(times, (50, 95)))
    mos = float(np.mean([page_opinion(time) for time in times])) * len(times) / max(begun, len(times))
    words = f"{len(times)} of {begun} pages loaded, in {middle:.1f} s at the median and {late:.1f} s at p95"
    figures = {"begun": float(begun), "loaded": float(len(times)), "load_p50": middle, "load_p95": late, "mos": mos}
    return Judgement(f"{middle:.1f} s", words, mos / 5, _word(mos, (3.8, 3.3, 2.8, 2.2)), figures)


def _judge_finite(sources: Sequence[Source]) -> Judgement | None:
    transfers = [source for source in sources if isinstance(source, Finite)]
    times = [time / SECOND for one in transfers for time in one.times]
    begun = len(times) + sum(one.open for one in transfers)
    if not begun:
        return None
    if not times:
        return Judgement("open", f"none of {begun} was complete at the end", 0.0, "", {"complete": 0.0})
    middle = float(np.median(times))
    words = f"{len(times)} of {begun} complete, in {middle:.1f} s at the median"
    return Judgement(f"{middle:.1f} s", words, 1 / (1 + middle), "", {"complete": len(times), "time_p50": middle})


def _finite(kind: str) -> Callable[[Sequence[Course], Choices], list[Source]]:
    def open_(courses: Sequence[Course], choices: Choices) -> list[Source]:
        usual = AMOUNTS[kind]
        size, every = choices.size or usual.size, choices.every or usual.every
        return [Finite(course, choices.control, size, every) for course in courses]

    return open_


def _transfer(courses: Sequence[Course], choices: Choices) -> list[Source]:
    if choices.size is not None:
        return [Finite(course, choices.control, choices.size, choices.every) for course in courses]
    return [Transfer(course, choices.control) for course in courses]


UP, DOWN, BOTH, ECHO = ("up",), ("down",), ("up", "down"), ("there and back",)
FULL: Final = (0, LARGEST_PACKET)


def _each(source: Callable[[Course], Source]) -> Callable[[Sequence[Course], Choices], list[Source]]:
    """One for each direction."""
    return lambda courses, _: [source(course) for course in courses]


def _play(courses: Sequence[Course], _: Choices) -> list[Source]:
    return [Play(courses[0], True), Play(courses[1], False)]


def _film(courses: Sequence[Course], choices: Choices) -> list[Source]:
    return [Film(courses[0], courses[1], choices.control)]


def _pages(courses: Sequence[Course], choices: Choices) -> list[Source]:
    return [Pages(courses[0], courses[1], choices.control, choices.size)]


def _swarm(courses: Sequence[Course], _: Choices) -> list[Source]:
    return [Transfer(course, "ledbat") for course in courses]


KINDS: Final[dict[str, Kind]] = {
    "call": Kind(UDP, BOTH, (0, CALL_PACKET), _each(Talk), connected=False),
    "meeting": Kind(UDP, BOTH, (0, 1240), _each(Meeting), False, _judge_meeting),
    "play": Kind(UDP, BOTH, (0, 150), _play, False, _judge_play),
    "film": Kind(TCP, ("down", "up"), FULL, _film, True, _judge_film),
    "pages": Kind(TCP, ("down", "up"), FULL, _pages, True, _judge_pages),
    "download": Kind(TCP, DOWN, FULL, _transfer, True, _judge_finite),
    "upload": Kind(TCP, UP, FULL, _transfer, True, _judge_finite),
    "update": Kind(TCP, DOWN, FULL, _finite("update"), True, _judge_finite),
    "backup": Kind(TCP, UP, FULL, _finite("backup"), True, _judge_finite),
    "scan": Kind(TCP, UP, FULL, _finite("scan"), True, _judge_finite),
    "swarm": Kind(UDP, ("down", "up"), FULL, _swarm),
    "names": Kind(UDP, ECHO, (0, LOOKUP), _each(Lookups), False),
    "ping": Kind(0, ECHO, (CONTROL, PING_PACKET), _each(Ping), False),
}
