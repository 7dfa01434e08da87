"""Holds what recognition says of the captures against what was sent: `python -m tests.recognition.scoring`."""

from collections import Counter
from pathlib import Path
from typing import NamedTuple

import yaml

from wily_sluice.engine.classify.header import TCP, parse, parties
from wily_sluice.engine.classify.service import NOTHING
from wily_sluice.engine.conversations.conversation import Conversation, ConversationTable
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.sorting.capture import read

FOLDER = Path(__file__).parent / "captures"
OURS = (bytes([10, 61, 0]), bytes.fromhex("fd6100000000"))  # what the addresses of our hosts begin with


class Score(NamedTuple):
    """One conversation of a capture: what it should be seen as (one of several, with | between), and what it was."""

    capture: str
    maker: str
    ends: str
    expected: str
    name: str
    seen: str
    likely: str
    seen_name: str

    @property
    def right(self) -> bool:
        return self.seen in self.expected.split("|") and (not self.name or self.seen_name == self.name)

    @property
    def wrong_with_confidence(self) -> bool:
        """Seen as what it is not; not to have been recognised is a lesser fault."""
        named_wrongly = bool(self.seen_name and self.name and self.seen_name != self.name)
        return bool(self.seen and self.seen not in self.expected.split("|")) or named_wrongly


def conversations(file: Path) -> list[Conversation]:
    """All conversations of a capture, recognised."""
    recognition, table = Recognition(), ConversationTable()
    found: dict[bytes, Conversation] = {}
    for captured in read(file):
        parsed = parse(captured.packet, True)
        if parsed is None or parsed.key[0] not in (6, 17):
            continue
        up = parties(parsed.key).local.startswith(OURS)
        parsed = parsed if up else parse(captured.packet, False)
        assert parsed is not None
        conversation = table.find(parsed.key, 0, captured.now)
        found[parsed.key] = conversation
        if conversation.unknown:
            recognition.look(conversation, parsed, captured.packet, up, captured.now)
    return list(found.values())


def scores() -> list[Score]:
    """Every conversation of every capture that something is expected of."""
    found = []
    for capture, entry in yaml.safe_load((FOLDER / "index.yaml").read_text()).items():
        for conversation in conversations(FOLDER / f"{capture}.pcap"):
            people = conversation.parties
            protocol = "tcp" if people.protocol == TCP else "udp"
            ends = f"{protocol}/{people.remote_port}"
            expected = entry["expected"].get(ends) or entry["expected"].get(f"{protocol}/any")
            if expected is None:
                continue
            known = conversation.known or NOTHING
            name = known.names[0] if known.names else ""
            found.append(Score(capture, entry["made by"], ends, *expected, known.seen, known.likely, name))
    return found


def _told(counts: Counter[str]) -> str:
    return ", ".join(f"{count} {word or 'as nothing known'}" for word, count in counts.items())


def main() -> None:
    """Print the table of docs/recognition.md."""
    total: Counter[str] = Counter()
    seen: dict[tuple[str, str], Counter[str]] = {}
    faults = []
    for score in scores():
        seen.setdefault((score.capture, score.maker), Counter())[score.seen] += 1
        verdict = "right" if score.right else "wrong" if score.wrong_with_confidence else "not recognised"
        total[verdict] += 1
        if not score.right:
            faults.append(f"- {score.capture}, {score.ends}: {score.expected or 'nothing'} is {verdict}")
    print("| capture | made by | seen |\n|---|---|---|")
    for (capture, maker), counts in seen.items():
        print(f"| {capture} | {maker} | {_told(counts)} |")
    print("", f"{sum(total.values())} conversations: {_told(total)}", *faults, sep="\n")


if __name__ == "__main__":
    main()
