"""`service`: the purpose of a conversation."""

from collections.abc import Iterable

from wily_sluice.engine.classify.condition import Condition, ServiceIs
from wily_sluice.plan.asking import Services
from wily_sluice.plan.field import Engine, Field, Names, Needs, Space
from wily_sluice.plan.file.words import Words
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import Box


class ServiceField(Field[Services]):
    """Services, or categories."""

    key, entry, example, turn = "service", Words, "calls", 40

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> Services:
        """Those that the words mean."""
        return Services(words, names.services_named(here, words))

    def condition(self, asked: Services, engine: Engine) -> Condition:
        """The service is in this set."""
        return ServiceIs(tuple(engine.signs(service.name) for service in asked.services))

    def need(self, asked: Services, needs: Needs) -> None:
        """Shapes must be observed if a service has one."""
        needs.shapes = needs.shapes or any(service.shape for service in asked.services)

    def boxes(self, asked: Services, space: Space) -> Iterable[Box]:
        """A flag for each."""
        return [space.flag("service", service.name) for service in asked.services]

    def text(self, asked: Services) -> str:
        """`calls or meetings`."""
        return " or ".join(asked.words)

    def phrase(self, asked: Services) -> str:
        """Of which."""
        return f" using {self.text(asked)}"


FIELD = ServiceField()
