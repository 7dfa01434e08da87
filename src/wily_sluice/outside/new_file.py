"""Writes a file that was not there before, whole or not at all."""

from __future__ import annotations

import os
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from wily_sluice.errors import SluiceError

if TYPE_CHECKING:
    pass


class CannotWriteError(SluiceError):
    """The file cannot be written: the message says why."""


def write_new(path: Path, content: bytes, replace: bool = False) -> None:
    """Write a file; one that is there already only where it may be replaced. CannotWriteError when that fails."""
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.resolve().parent)
    except OSError as error:
        raise CannotWriteError(f"cannot write {path}: {error.strerror}") from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        umask = os.umask(0)
        os.umask(umask)
        Path(name).chmod(0o666 & ~umask)
        if replace:
            Path(name).replace(path)
        else:
            os.link(name, path)  # which fails where there is one
    except FileExistsError:
        raise CannotWriteError(f"{path} is there already: name another with --output, or use --force") from None
    except OSError as error:
        raise CannotWriteError(f"cannot write {path}: {error.strerror}") from None
    finally:
        with suppress(OSError):
            Path(name).unlink()
