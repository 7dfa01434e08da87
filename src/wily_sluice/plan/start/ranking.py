"""The purposes that users rank: categories of services, with a guarantee for each rank."""

from dataclasses import dataclass
from typing import Final


@dataclass(frozen=True, slots=True)
class Purpose:
    """A purpose of the uplink. `services` are categories; `small` traffic needs little and can have the first priority.
    `late` is the priority of traffic that can wait.
    """

    name: str
    words: str
    services: tuple[str, ...]
    small: bool = False
    late: int = 5
    cap: str = ""


PURPOSES: Final = {
    one.name: one
    for one in (
        Purpose("calls", "telephone calls", ("calls",), small=True, cap="50%"),
        Purpose("meetings", "meetings with video", ("meetings",), small=True, cap="80%"),
        Purpose("play", "games", ("play",), small=True, cap="50%"),
        Purpose("web", "pages", ("web",)),
        Purpose("work", "work: files, mail, remote desks, tunnels", ("files", "mail", "remote-desks", "tunnels")),
        Purpose("streaming", "films and music", ("streaming",)),
        Purpose("downloads", "downloads, and everything else", ()),
        Purpose("updates", "updates of devices", ("updates",), late=7),
        Purpose("swarms", "swarms of file sharers", ("swarms",), late=8),
    )
}
SHARES: Final = (20, 16, 13, 11, 9, 8, 7, 5, 3)  # percent that is guaranteed, by place
BASE: Final = 2  # percent for names and time
BASE_CAP: Final = "15%"
GUESTS: Final = 3
GUESTS_PRIORITY: Final = 9  # behind all purposes of the house's own
ACKS_PRIORITY: Final = 4  # behind what is small and cannot wait, before all else


ALIASES: Final = {
    "games": "play", "game": "play", "gaming": "play", "films": "streaming", "film": "streaming", "movies": "streaming",
    "music": "streaming", "video": "meetings", "conferences": "meetings", "phone": "calls", "voice": "calls",
    "pages": "web", "browsing": "web", "files": "downloads", "mail": "work", "torrents": "swarms",
}  # fmt: skip


def purpose(word: str) -> str:
    """The purpose that a word means: its name, or what people call it. ValueError with those that there are."""
    word = word.lower()
    word = ALIASES.get(word, word)
    if word not in PURPOSES:
        raise ValueError(f"there is no “{word}”: use {', '.join(PURPOSES)}")
    return word


def ranked(first: tuple[str, ...]) -> list[str]:
    """All purposes: those that were named, then the others in their usual order."""
    return [*first, *(name for name in PURPOSES if name not in first)]
