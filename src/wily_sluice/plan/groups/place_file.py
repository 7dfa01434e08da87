"""Looks prefixes up in an MMDB file: by country, autonomous system number, or any other field.

The format is open (the MMDB file format, version 2); a library reads the file. Only matching prefixes are kept. Files
use different paths for these fields, so the usual ones are tried.
"""

from collections.abc import Iterator, Mapping
from io import BytesIO
from ipaddress import IPv4Network, IPv6Network
from typing import TYPE_CHECKING, Any

from wily_sluice.engine.classify.addresses import AddressSet, Range
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.terms import Members
from wily_sluice.units import format_size

if TYPE_CHECKING:
    import maxminddb

COUNTRY_PATHS = ("country", "country.iso_code", "country.code", "country_code")
AS_NUMBER_PATHS = ("as_number", "asn", "autonomous_system_number", "as.number")
MOST_PREFIXES = 500_000
MOST_BYTES = 400_000_000


class _TooManyError(ValueError):
    """More prefixes than are kept."""


def _said(entry: Any, key: str) -> str | None:
    """The value of an entry under a path of keys joined by dots; None if it is not a plain value."""
    for part in key.split("."):
        if not isinstance(entry, dict) or part not in entry:
            return None
        entry = entry[part]
    return None if isinstance(entry, dict) else str(entry)


def _range(network: IPv4Network | IPv6Network) -> Range:
    first, last = network.network_address.packed, network.broadcast_address.packed
    # A file of IPv6 has the addresses of IPv4 as ::a.b.c.d.
    if len(first) == 16 and network.prefixlen >= 96 and first[:12] == bytes(12):
        return first[12:], last[12:]
    return first, last


def members_where(source: Source, where: Mapping[tuple[str, ...], tuple[str, ...]]) -> Members:
    """The prefixes whose entries have, for each of the keys of `where`, one of its values under one of the key's paths.
    ValueError when the file cannot be read.
    """

    def found(reader: "maxminddb.Reader") -> Iterator[Range]:
        for count, (network, entry) in enumerate(reader):
            if count > MOST_PREFIXES:
                raise _TooManyError(f"{source.name} has more than {MOST_PREFIXES} prefixes")
            if all(any(_said(entry, path) in values for path in paths) for paths, values in where.items()):
                yield _range(network)

    try:
        content = source.read(MOST_BYTES + 1)
    except OSError as error:
        raise ValueError(f"{source.name} cannot be read: {error.strerror or error}") from None
    if len(content) > MOST_BYTES:
        raise ValueError(f"{source.name} is larger than {format_size(MOST_BYTES)}")
    import maxminddb  # it takes a while to load, and most plans name no such file

    try:
        # Not by the library's extension in C: a broken file makes that write where it should not.
        with maxminddb.open_database(BytesIO(content), maxminddb.MODE_FD) as reader:
            return Members(AddressSet(found(reader)))
    except _TooManyError:
        raise
    except Exception:  # the library raises many kinds for what a file may hold
        raise ValueError(f"{source.name} is not a valid MMDB file") from None
