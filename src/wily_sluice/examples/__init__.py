"""The demo site: Saltmarsh Veterinary, a surgery with a flat above it."""

from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

PLAN = "saltmarsh.yaml"
TRAFFIC = "saltmarsh-afternoon.yaml"
EVENING = "saltmarsh-evening.yaml"
PLACES = "places.mmdb"
CAPTURE = "saltmarsh-morning.pcap"
# Who takes part when the site is tried on real packets: network and address.
CALLER = ("surgery", "10.61.0.41")
WORKER = ("surgery", "10.61.0.100")
PHONES = (("waiting-room", "10.61.30.100"), ("waiting-room", "10.61.30.101"))


def folder() -> Path:
    """Where the demo's files are."""
    return Path(str(files(__name__)))


class Site(NamedTuple):
    """A complete plan to start from, and its purpose."""

    file: Path
    about: str


def sites() -> dict[str, Site]:
    """The example sites, by name. The first line of each states its purpose."""
    sites_by_name = {}
    for file in sorted((folder() / "sites").glob("*.yaml")):
        about = file.read_text(encoding="utf-8").partition("\n")[0].removeprefix("# ")
        sites_by_name[file.stem] = Site(file, about)
    return sites_by_name
