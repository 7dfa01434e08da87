"""Options of the commands that measure a line, and the key that both machines share."""

from __future__ import annotations

import secrets
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import Refusal
from wily_sluice.gauge.stamp import PORT, SHORTEST_KEY
from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    pass

HTTP_PORT = 8862  # as `gauge.far`, whose library takes its time to load
key_option = click.option(
    "--key",
    "key_file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="The key that both machines share.  [default: gauge.key in ~/.config/wily-sluice]",
)
port_option = click.option(
    "--port", type=click.IntRange(1, 65535), default=PORT, show_default=True, help="Its UDP port."
)
http_port_option = click.option(
    "--http-port", type=click.IntRange(1, 65535), default=HTTP_PORT, show_default=True, help="Its TCP port."
)
DAY: Nanoseconds = 24 * 3600 * SECOND


def _usual_key() -> Path:
    from platformdirs import user_config_path

    return user_config_path("wily-sluice") / "gauge.key"


def read_key(key_file: Path | None) -> bytes:
    """The shared key, from this file or the usual one."""
    path = key_file or _usual_key()
    try:
        key = path.read_bytes().strip()
    except FileNotFoundError:
        raise Refusal(
            f"there is no key in {path}: copy it from the machine on which `sluice gauge serve` runs"
        ) from None
    except OSError as error:
        raise Refusal(f"the key in {path} cannot be read: {error.strerror}") from None
    if len(key) < SHORTEST_KEY:
        raise Refusal(f"the key in {path} has {len(key)} bytes: it needs at least {SHORTEST_KEY}")
    return key


def made_key(key_file: Path | None) -> bytes:
    """The key, made now where there is none."""
    path = key_file or _usual_key()
    if not path.exists():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=0o600, exist_ok=False)
            path.write_text(secrets.token_hex(32) + "\n")
        except OSError as error:
            raise Refusal(f"a key cannot be written to {path}: {error.strerror}") from None
        click.echo(f"a new key is in {path}: copy it to the machine that measures", err=True)
    return read_key(key_file)
