"""The log, which nobody waits for."""

import json
import os
import sys
import threading

import pytest

from wily_sluice.control.log import note


def test_nobody_waits_for_the_reader_of_the_log_and_what_was_left_out_is_counted(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    reader, writer = os.pipe()
    os.set_blocking(reader, False)
    monkeypatch.setattr(sys, "stderr", os.fdopen(writer, "w"))
    noting = threading.Thread(
        target=lambda: [note("uplink.down", uplink="fibre", n=n) for n in range(3000)], daemon=True
    )
    noting.start()
    noting.join(10)
    assert not noting.is_alive()
    written = [json.loads(line) for line in os.read(reader, 1 << 20).splitlines()]
    assert [one["n"] for one in written] == list(range(len(written)))
    assert 100 < len(written) < 3000
    note("uplink.back", uplink="fibre")
    gap, last = (json.loads(line) for line in os.read(reader, 1 << 20).splitlines())
    assert (gap["event"], gap["lines"], last["event"]) == ("log.lost", 3000 - len(written), "uplink.back")
