"""Makes the demo's MMDB file, in which countries and networks are made up: `python -m tools.make_places`.

Needs the package `mmdb_writer`, which nothing else does. The countries are codes that ISO 3166 leaves free for
private use, the prefixes those of RFC 5737 and RFC 3849, the networks' numbers those of RFC 5398.
"""

from pathlib import Path

from mmdb_writer import MMDBWriter
from netaddr import IPSet

from wily_sluice import examples

PLACES = (
    ("192.0.2.0/25", "XA", "Upper Marsh", 64500),
    ("192.0.2.128/25", "XA", "Upper Marsh", 64501),
    ("198.51.100.0/24", "XB", "Lower Marsh", 64502),
    ("203.0.113.0/25", "XB", "Lower Marsh", 64500),
    ("203.0.113.128/25", "XC", "The Saltings", 64503),
    ("2001:db8:a::/48", "XA", "Upper Marsh", 64500),
    ("2001:db8:b::/48", "XB", "Lower Marsh", 64502),
)


def main() -> None:
    writer = MMDBWriter(6, "Made-up places", languages=["en"], description="Nowhere in the world", ipv4_compatible=True)
    for prefix, code, name, number in PLACES:
        entry = {"country": {"code": code, "name": name}, "as_number": number}
        writer.insert_network(IPSet([prefix]), entry)
    writer.to_db_file(str(Path(examples.folder()) / "places.mmdb"))


if __name__ == "__main__":
    main()
