from contextlib import closing
from pathlib import Path

import pytest

from wily_sluice.history import stores
from wily_sluice.history.stores import EventStore, Happened
from wily_sluice.views.live.gate import sentence


def test_the_last_events_are_kept_and_said_in_sentences(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stores, "MOST_EVENTS", 3)
    with closing(EventStore(tmp_path)) as store:
        for at in range(5):
            store.add(float(at), "uplink.down", {"uplink": "fibre", "why": f"reason {at}"})
    with closing(EventStore(tmp_path)) as store:
        found = list(store.last(2))
        assert [one.at for one in found] == [4.0, 3.0]
        assert len(list(store.last(50))) == 3
    assert sentence(found[0]) == "fibre is down: reason 4"
    assert sentence(Happened(0, "uplink.down", {"who": 1})) == "uplink.down who=1"
    assert sentence(Happened(0, "of.another", {"why": "no room"})) == "of.another why=no room"
