"""Looks prefixes up in an MMDB file: by country, autonomous system number, or any other field.

The format is open (the MMDB file format, version 2); a library reads the file. Only matching prefixes are kept. Files
use different paths for these fields, so the usual ones are tried.
"""

from collections.abc import Mapping
from io import BytesIO
from ipaddress import IPv4Network, IPv6Network
from typing import Any, TypeAlias

from wily_sluice.engine.classify.addresses import AddressSet, Range
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.terms import Members
from wily_sluice.units import format_size

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


Where: TypeAlias = Mapping[tuple[str, ...], tuple[str, ...]]


def members_where(source: Source, *wheres: Where) -> list[Members]:
    """For each of `wheres`, the prefixes whose entries have, for each of its keys, one of its values under one of the
    key's paths. The file is read once. ValueError when it cannot be read, or more than MOST_PREFIXES would be kept.
    """
    found: list[list[Range]] = [[] for _ in wheres]
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
            for network, entry in reader:
                for where, kept in zip(wheres, found, strict=True):
                    if all(any(_said(entry, path) in values for path in paths) for paths, values in where.items()):
                        kept.append(_range(network))
                if sum(map(len, found)) > MOST_PREFIXES:
                    raise _TooManyError(f"{source.name} has more than {MOST_PREFIXES} prefixes of what is asked for")
    except _TooManyError:
        raise
    except Exception:  # the library raises many kinds for what a file may hold
        raise ValueError(f"{source.name} is not a valid MMDB file") from None
    return [Members(AddressSet(kept)) for kept in found]
