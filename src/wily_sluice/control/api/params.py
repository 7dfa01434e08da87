"""The parameters of the methods on a gate's sockets. Unknown names are refused."""

from pydantic import BaseModel, ConfigDict, Field, IPvAnyAddress

from wily_sluice.control.api.server import Subscription

LONGEST_TRIAL = 24 * 3600  # seconds


class Params(BaseModel):
    """What a method takes."""

    model_config = ConfigDict(extra="forbid")


class NoParams(Params):
    """Nothing."""


class ApplyParams(Params):
    """`plan` and `files` in base64, files by the names that the plan gives; `trial` in seconds."""

    plan: str
    files: dict[str, str] = {}
    note: str = Field(default="", max_length=1000)
    trial: float | None = Field(default=180, ge=1, le=LONGEST_TRIAL)
    base: str | None = None


class UndoParams(Params):
    """A revision to go back to; `trial` in seconds."""

    revision: int | None = Field(default=None, ge=1, le=1 << 62)
    trial: float | None = Field(default=None, ge=1, le=LONGEST_TRIAL)


class ListParams(Params):
    """How many at most."""

    rows: int = Field(default=50, ge=1, le=10_000)


class RevisionParams(Params):
    """Which one; by default the running one."""

    revision: int | None = Field(default=None, ge=1, le=1 << 62)


class HostPortParams(Params):
    """A host, and one of its ports by protocol number (IANA); the default is all its mappings."""

    host: IPvAnyAddress
    protocol: int | None = Field(default=None, ge=0, le=255)
    port: int | None = Field(default=None, ge=1, le=65_535)


class LookParams(Params):
    """A conversation: its protocol by number (IANA), both addresses and ports, 0 where it has none."""

    protocol: int = Field(ge=0, le=255)
    local: IPvAnyAddress
    local_port: int = Field(default=0, ge=0, le=65_535)
    remote: IPvAnyAddress
    remote_port: int = Field(default=0, ge=0, le=65_535)


class SubscribeParams(Params):
    """Ticks are sent twice a second; with conversations, these are counted too. None ends the subscription."""

    to: Subscription | None = "ticks"
