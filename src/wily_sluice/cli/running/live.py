"""The live view, fed by a gate."""

import asyncio
import time

from wily_sluice.control.client import Client
from wily_sluice.errors import LiveError
from wily_sluice.views.live.watch.screen import WatchScreen
from wily_sluice.views.live.watch.state import Watch

AGAIN = 0.2
REPLACED_WITHIN = 8.0  # seconds, in which a process that has ended beside the gate is started again


class LiveWatch(WatchScreen):
    """Shows what `client` receives, until `ends` on the monotonic clock if given; `trouble` is what ended it early."""

    def __init__(self, state: Watch, client: Client, ends: float | None = None) -> None:
        super().__init__(state)
        self.trouble: LiveError | None = None
        self._ends = ends
        self._client = client
        self._gone = 0.0

    def on_mount(self) -> None:
        """Listen from now on."""
        super().on_mount()
        self._listen()
        if self._ends is not None:
            self.set_timer(max(0.0, self._ends - time.monotonic()), self.exit)

    def on_unmount(self) -> None:
        """Listen no more."""
        asyncio.get_running_loop().remove_reader(self._client.fileno())
        self._client.close()

    def turned(self) -> None:
        """Single conversations are counted only while they are shown."""
        try:
            self._client.ask("watch.subscribe", to=self.state.wanted)
        except OSError:
            return  # it has ended, which what is to be read from it tells

    def _listen(self) -> None:
        asyncio.get_running_loop().add_reader(self._client.fileno(), self._hear)
        self.turned()

    def _hear(self) -> None:
        try:
            news = self._client.waiting()
        except OSError:
            news = None
        if news is None:
            asyncio.get_running_loop().remove_reader(self._client.fileno())
            self._client.close()
            self._gone = time.monotonic()
            self._again()
        elif news:
            self.feed(news[-1])

    def _again(self) -> None:
        """To a gate whose process for answering has been replaced; else it is the gate itself that has ended."""
        try:
            self._client = Client(watching=True)
        except LiveError:
            if time.monotonic() < self._gone + REPLACED_WITHIN:
                self.set_timer(AGAIN, self._again)
            else:
                self.trouble = LiveError("the gate has ended")
                self.exit()
            return
        self._listen()
