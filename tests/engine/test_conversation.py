from tests.engine.driving import ANYWHERE
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import HALF_OPEN, MOST_HALF_OPEN, SETTLED, ConversationTable
from wily_sluice.engine.queueing.flow_path import FlowPath
from wily_sluice.engine.tally import FlowTally, Tally, percentile, step_end, step_of
from wily_sluice.units import SECOND

KEY = key_of(Parties(17, bytes([10, 61, 0, 41]), bytes([203, 0, 113, 9]), 5004, 443))
OTHER = key_of(Parties(6, bytes([10, 61, 0, 41]), bytes([203, 0, 113, 9]), 5004, 443))


def test_a_conversation_is_remembered_while_it_is_used_and_forgotten_when_idle() -> None:
    table = ConversationTable(idle=10 * SECOND)
    first = table.find(KEY, 0, 0)
    table.find(OTHER, 0, 0)
    for second in range(1, 40, 5):
        assert table.find(KEY, 0, second * SECOND) is first
    assert len(table) == 1
    table.find(OTHER, 0, 100 * SECOND)
    assert table.find(KEY, 0, 101 * SECOND) is not first


def test_what_was_used_in_the_last_idle_time_outlives_the_end_of_a_generation() -> None:
    table = ConversationTable(idle=10 * SECOND)
    for _ in range(SETTLED + 1):
        first = table.find(KEY, 0, 0)
    assert table.find(OTHER, 0, 15 * SECOND) is not first  # another generation begins
    assert table.find(KEY, 0, 15 * SECOND) is first


def test_a_conversation_of_one_side_makes_way_for_others_and_one_of_both_sides_does_not() -> None:
    for both in (False, True):
        table = ConversationTable()
        first = table.find(KEY, 0, 0)
        paths = [FlowPath(ANYWHERE, (), ANYWHERE.tree.leaves[0], FlowTally(b"", -1, "", ""))] * 2
        first.up_path, first.down_path = paths[0], paths[1] if both else None
        table.find(KEY, 0, 0)
        for number in range(MOST_HALF_OPEN):
            table.find(number.to_bytes(len(KEY)), 0, 0)
        assert (table.find(KEY, 0, 0) is first) is both


def test_a_half_open_conversation_is_forgotten_a_minute_after_its_last_packet() -> None:
    table = ConversationTable()
    table.find(KEY, 0, 0)
    table.find(KEY, 0, 50 * SECOND)
    table.sweep(HALF_OPEN + SECOND)
    assert table.peek(KEY) is not None
    table.sweep(50 * SECOND + HALF_OPEN + SECOND)
    assert table.peek(KEY) is None


def test_a_wait_is_counted_in_a_step_no_wider_than_a_quarter_of_it() -> None:
    for wait in (1 << 14, 5 << 14, 999_999, 123_456_789, 7_000_000_000):
        assert wait < step_end(step_of(wait)) <= max(wait * 5 // 4, wait + (1 << 14)) + 1
    tally = Tally()
    tally.enter(100, 0)
    tally.leave(100, False, 5_000, 5_000)
    assert tally.waits is None and tally.packets == 1  # it did not wait to speak of
    tally.enter(100, 0)
    tally.leave(100, False, 10**8, 10**8)
    assert tally.waits is not None and percentile(tally.waits, 0.5) == step_end(step_of(10**8))
