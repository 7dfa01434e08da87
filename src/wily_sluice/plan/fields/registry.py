"""All fields of a rule. A conversation is asked in this order, and told the first that does not hold."""

from collections.abc import Iterator
from typing import Any, Final

from wily_sluice.plan.field import Field
from wily_sluice.plan.fields import parties, traffic
from wily_sluice.plan.terms import Terms

FIELDS: Final[tuple[Field[Any], ...]] = (
    parties.UPLINK_FIELD,
    parties.LOCAL_FIELD,
    parties.NETWORK_FIELD,
    parties.REMOTE_FIELD,
    parties.VERSION_FIELD,
    traffic.PROTOCOL_FIELD,
    traffic.PORT,
    traffic.LOCAL_PORT_FIELD,
    traffic.REMOTE_PORT_FIELD,
    traffic.PACKET_FIELD,
    traffic.LENGTH_FIELD,
    traffic.DSCP_FIELD,
    traffic.WHEN_FIELD,
    traffic.SERVICE_FIELD,
    traffic.MOVED_FIELD,
    traffic.RATE_FIELD,
)
IN_A_SENTENCE: Final = tuple(sorted(FIELDS, key=lambda field: field.turn))


def asked(terms: Terms, fields: tuple[Field[Any], ...] = FIELDS) -> Iterator[tuple[Field[Any], Any]]:
    """The fields that terms have, with their values; without blocks."""
    return ((field, terms.asked[field.key]) for field in fields if field.key in terms.asked)
