"""What a gate keeps is nobody's but root's: who spoke with whom, and what was used, whatever the umask says."""

import os
import sqlite3
from pathlib import Path

FOLDER_MODE, FILE_MODE = 0o700, 0o600
OURS = "plans.sqlite"


def private_folder(folder: Path) -> None:
    """Make a folder that only its owner may read, with those above it; one that is there is closed if it is a gate's.

    OSError when it cannot be made.
    """
    if not folder.is_dir():
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.mkdir(mode=FOLDER_MODE, exist_ok=True)
        folder.chmod(FOLDER_MODE)
    elif (folder / OURS).exists() and folder.stat().st_uid == os.geteuid() and folder.stat().st_mode & 0o077:
        folder.chmod(FOLDER_MODE)


def private_file(path: Path) -> None:
    """Make a file that only its owner may read, or close one that is there. OSError when that cannot be.

    One that is there is not opened: to close it again would end the locks that this process has on it (fcntl(2)).
    """
    try:
        os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, FILE_MODE))
    except FileExistsError:
        if path.stat().st_mode & 0o077:
            path.chmod(FILE_MODE)


def private_database(path: Path, patience: float, check_same_thread: bool = True) -> sqlite3.Connection:
    """A database in a private file in a private folder, both made if need be. OSError or sqlite3.Error when not."""
    private_folder(path.parent)
    private_file(path)  # what SQLite puts beside it has the same mode
    return sqlite3.connect(path, timeout=patience, check_same_thread=check_same_thread)
