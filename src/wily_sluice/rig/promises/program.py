"""A program of the rig that follows orders: a line of JSON each, and a line for the answer."""

import json
import signal
import subprocess
from collections.abc import Sequence
from pathlib import Path
from subprocess import PIPE
from typing import Any

from wily_sluice.errors import LiveError

PATIENCE = 15.0  # seconds


class Program:
    """A program of the rig that follows orders."""

    def __init__(self, command: Sequence[str], log: Path) -> None:
        self._log = log
        with log.open("wb") as errors:
            self._process = subprocess.Popen(
                command, stdin=PIPE, stdout=PIPE, stderr=errors, text=True, start_new_session=True
            )
        self.answer()

    def order(self, what: dict[str, Any]) -> None:
        """Give an order."""
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(what) + "\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            raise LiveError(self._trouble()) from None

    def answer(self) -> Any:
        """Wait for the answer to the last one."""
        assert self._process.stdout is not None
        line = self._process.stdout.readline()
        if not line:
            raise LiveError(self._trouble())
        return json.loads(line)

    def ask(self, what: dict[str, Any]) -> Any:
        """Give an order, and wait for its answer."""
        self.order(what)
        return self.answer()

    def _trouble(self) -> str:
        lines = self._log.read_text(errors="replace").strip().splitlines()
        return f"a program of the rig ended: {lines[-1] if lines else 'it said nothing'}"

    def kill(self) -> None:
        """As a crash would."""
        self._process.kill()
        self._process.wait()

    def close(self) -> None:
        """End it."""
        if self._process.poll() is None:
            self._process.send_signal(signal.SIGTERM)
        try:
            self._process.communicate(timeout=PATIENCE)
        except subprocess.TimeoutExpired:
            self.kill()
