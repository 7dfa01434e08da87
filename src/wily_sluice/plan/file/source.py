"""A file as a plan reads it: a name and bytes, wherever these come from."""

from collections.abc import Mapping

from wily_sluice.units import Size


class Source:
    """`name` is what messages call it."""

    def __init__(self, name: str) -> None:
        self.name = name

    @property
    def last_name(self) -> str:
        """The name without folders."""
        return self.name.rpartition("/")[2]

    def read(self, limit: Size) -> bytes:
        """Its first bytes, up to a limit. OSError if it cannot be read."""
        raise NotImplementedError

    def beside(self, name: str) -> "Source":
        """The file that this one means by a name."""
        raise NotImplementedError


class Kept(Source):
    """A file that is kept as bytes; `others` are those that it names."""

    def __init__(self, name: str, content: bytes, others: Mapping[str, bytes] = {}) -> None:
        super().__init__(name)
        self._content = content
        self._others = others

    def read(self, limit: Size) -> bytes:
        """The bytes."""
        return self._content[:limit]

    def beside(self, name: str) -> Source:
        """One of the others."""
        if name in self._others:
            return Kept(name, self._others[name])
        return Missing(name)


class Missing(Source):
    """A file that is not there."""

    def read(self, limit: Size) -> bytes:
        """Nothing."""
        raise FileNotFoundError(2, "No such file or directory", self.name)

    def beside(self, name: str) -> Source:
        """Nor is any other."""
        return Missing(name)
