"""All fields of a rule. A conversation is asked in this order, and told the first that does not hold."""

from collections.abc import Iterator
from typing import Any, Final

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.field import Field
from wily_sluice.plan.fields import (
    dscp,
    length,
    local,
    moved,
    packet,
    port,
    protocol,
    rate,
    remote,
    service,
    uplink,
    version,
    when,
)

FIELDS: Final[tuple[Field[Any], ...]] = (
    uplink.FIELD,
    local.LOCAL_FIELD,
    local.NETWORK_FIELD,
    remote.FIELD,
    version.FIELD,
    protocol.FIELD,
    port.PORT,
    port.LOCAL_PORT_FIELD,
    port.REMOTE_PORT_FIELD,
    packet.FIELD,
    length.FIELD,
    dscp.FIELD,
    when.FIELD,
    service.FIELD,
    moved.FIELD,
    rate.FIELD,
)
IN_A_SENTENCE: Final = tuple(sorted(FIELDS, key=lambda field: field.turn))


def asked(terms: Terms, fields: tuple[Field[Any], ...] = FIELDS) -> Iterator[tuple[Field[Any], Any]]:
    """The fields that terms have, with their values; without blocks."""
    return ((field, terms.asked[field.key]) for field in fields if field.key in terms.asked)
