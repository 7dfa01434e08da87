from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import ConversationTable
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
