"""`port`, `local-port` and `remote-port`: of either side, or of one."""

from collections.abc import Iterable
from typing import Any, ClassVar

from wily_sluice.engine.classify.condition import Condition, PortIs
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.traffic_words import ports_text
from wily_sluice.plan.file.words import PortWords
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import LOCAL_PORT, REMOTE_PORT, Box, Dimension, ranges

Ports = tuple[tuple[int, int], ...]  # first and last of each range


class Port(Field[Ports]):
    """Of either side."""

    key, entry, example, turn = "port", PortWords, "5060-5080", 50
    dimensions: ClassVar[tuple[Dimension, ...]] = (LOCAL_PORT, REMOTE_PORT)

    def resolve(self, words: tuple[str | int, ...], here: Location, names: Names) -> Any:
        """The ports that they mean, with transports; `plan.terms` takes these apart."""
        return names.ports(here, words)

    def condition(self, asked: Ports, engine: Engine) -> Condition:
        """A port of the conversation is in this set."""
        return PortIs(asked, LOCAL_PORT in self.dimensions, REMOTE_PORT in self.dimensions)

    def boxes(self, asked: Ports, space: Space) -> Iterable[Box]:
        """These, on either side that counts."""
        return [{dimension: ranges(asked)} for dimension in self.dimensions]

    def text(self, asked: Ports) -> str:
        """`5060-5080 or 443`."""
        return ports_text(asked)

    def phrase(self, asked: Ports) -> str:
        """On which."""
        return f" on {self.key.replace('-', ' ')} {ports_text(asked)}"


class LocalPort(Port):
    """Of your side."""

    key, example, turn = "local-port", "5004", 60
    dimensions = (LOCAL_PORT,)


class RemotePort(Port):
    """Of the far side."""

    key, example, turn = "remote-port", "443", 70
    dimensions = (REMOTE_PORT,)


PORT, LOCAL_PORT_FIELD, REMOTE_PORT_FIELD = Port(), LocalPort(), RemotePort()
