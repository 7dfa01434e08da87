from contextlib import closing
from pathlib import Path

import pytest

from wily_sluice.history import stores
from wily_sluice.history.stores import EventStore, Happened
from wily_sluice.views.live.gate import sentence


def test_the_last_events_are_kept_and_said_in_sentences(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stores, "MOST_EVENTS", 3)
    with closing(EventStore(tmp_path)) as store:
        for at in (0, 2, 4):
            about = ({"uplink": "fibre", "why": f"reason {number}"} for number in (at, at + 1))
            store.add(Happened(at + each, "uplink.down", words) for each, words in enumerate(about))
    with closing(EventStore(tmp_path)) as store:
        found = list(store.last(2))
        assert [one.at for one in found] == [5.0, 4.0]
        assert len(list(store.last(50))) == 3
    assert sentence(found[0]) == "fibre is down: reason 5"
    assert sentence(Happened(0, "uplink.down", {"who": 1})) == "uplink.down who=1"
    assert sentence(Happened(0, "of.another", {"why": "no room"})) == "of.another why=no room"
