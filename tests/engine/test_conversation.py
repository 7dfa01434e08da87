from tests.engine.driving import conversation, packet
from wily_sluice.engine.conversation import ConversationTable
from wily_sluice.engine.header import Parties, key_of
from wily_sluice.engine.sorter import Match, Sorter
from wily_sluice.units import SECOND

ANYWHERE = packet(100, conversation(1)).lane
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


def test_a_new_mark_has_a_conversation_sorted_again_and_both_directions_follow() -> None:
    expedited = Match(dscps=1 << 46)
    sorter = Sorter(((expedited, 1),), default=0)
    assert sorter.watches_marks
    table = ConversationTable(watch_marks=True)
    found = table.find(KEY, 0, 0)
    assert sorter.leaf(found) == 0
    found.up_lane = found.down_lane = ANYWHERE
    table.find(KEY, 0, 1)
    assert found.up_lane is ANYWHERE  # the same mark as before changes nothing
    table.find(KEY, 46, 2)
    assert found.up_lane is None
    assert found.down_lane is None
    table.find(KEY, 0, 3)  # an answer without the mark belongs to the same conversation
    assert sorter.leaf(found) == 1


def test_the_first_rule_that_matches_decides_and_all_limiters_apply() -> None:
    rules = ((Match(ports=((80, 90),)), 2), (Match(protocols=frozenset({17})), 1), (Match(), 3))
    sorter = Sorter(rules, default=0, limiters=(Match(), Match(ports=((1, 2),)), Match(protocols=frozenset({17}))))
    table = ConversationTable()
    assert sorter.rule(table.find(KEY, 0, 0)) == 1
    assert sorter.rule(table.find(OTHER, 0, 0)) == 2
    assert sorter.limits(table.find(KEY, 0, 0)) == [0, 2]
