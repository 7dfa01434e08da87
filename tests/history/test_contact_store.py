from pathlib import Path

from wily_sluice.history.database import CONTACTS
from wily_sluice.history.stores import Contact, ContactStore, forget
from wily_sluice.units import SECOND

HOUR = 3600
BEGIN = 1_795_000_000 - 1_795_000_000 % HOUR


def test_names_go_when_their_time_is_up_and_no_trace_of_them_stays_in_the_file(tmp_path: Path) -> None:
    store = ContactStore(tmp_path)
    kept = 3 * HOUR * SECOND
    store.add(BEGIN + 5, kept, [("10.61.0.40", "old.example")])
    store.add(BEGIN + 2 * HOUR, kept, [("10.61.0.40", "www.pages.example"), ("fd61::9", "www.pages.example")])
    # What was said in an hour is kept for three hours beyond its end.
    store.add(BEGIN + 4 * HOUR - 1, kept, [("10.61.0.40", "www.pages.example")])
    assert list(store.read("10.61.0.40")) == [
        Contact("10.61.0.40", "www.pages.example", BEGIN + 2 * HOUR, BEGIN + 3 * HOUR, 2),
        Contact("10.61.0.40", "old.example", BEGIN, BEGIN, 1),
    ]
    store.add(BEGIN + 4 * HOUR, kept, [])
    assert {one.name for one in store.read()} == {"www.pages.example"}
    store.close()
    content = (tmp_path / CONTACTS).read_bytes()
    assert b"old.example" not in content and b"www.pages.example" in content
    forget(tmp_path)
    assert not list(tmp_path.iterdir())
