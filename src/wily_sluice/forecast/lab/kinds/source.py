"""What sends packets of one conversation, and its surroundings."""

from dataclasses import dataclass
from random import Random

from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Framing
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.meter import Meter
from wily_sluice.forecast.lab.path import Path
from wily_sluice.units import Nanoseconds


@dataclass(frozen=True, slots=True)
class Course:
    """The environment of a source: its conversation, the paths out and back, its end, and its meter."""

    events: Events
    conversation: Conversation
    meter: Meter
    end: Nanoseconds
    framing: Framing
    there: Path
    back: Path
    random: Random


class Source:
    """Whatever sends packets of one conversation."""

    def __init__(self, course: Course) -> None:
        self._events = course.events
        self._conversation = course.conversation
        self._meter = course.meter
        self._end = course.end
        self._framing = course.framing
        self._there = course.there
        self._back = course.back
        self._random = course.random

    def begin(self, _: object = None) -> None:
        """Send the first packet now."""
        raise NotImplementedError

    def close(self) -> None:
        """End at once: the far end no longer knows it. Only for those over a connection."""
        self._end = 0

    def move(self, course: Course) -> None:
        """Go on by other ways."""
        self._meter = course.meter
        self._framing = course.framing
        self._there = course.there
        self._back = course.back
