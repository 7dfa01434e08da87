"""Who is not root, or only leaves files about, has no say in what a gate does, and reads nothing of what it keeps."""

import os
import shlex
import shutil
import socket
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest

from tests.conftest import SMALL_PLAN
from wily_sluice.control.unit import closed_to_service, unit_text
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import PYTHON, take_lock
from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.history.stores import ContactStore, QuotaStore
from wily_sluice.outside.plan_edits import History
from wily_sluice.plan.file.bundle import Bundle

NOBODY = 65_534


@pytest.mark.parametrize("program", ["wily_sluice.control.api", "wily_sluice.rig.endpoint"])
def test_a_module_that_was_planted_in_the_current_folder_is_not_run(tmp_path: Path, program: str) -> None:
    for name in ("click", "numpy", "argparse", "asyncio", "msgspec", "wily_sluice"):
        (tmp_path / f"{name}.py").write_text(f"open({str(tmp_path / 'run')!r}, 'w')\nraise SystemExit('planted')\n")
    done = subprocess.run([*PYTHON, program], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert "planted" not in done.stderr
    assert not (tmp_path / "run").exists()
    assert " -P -m wily_sluice gate run" in unit_text(tmp_path)


def test_one_gate_has_the_lock_and_another_is_refused_until_it_ends(tmp_path: Path) -> None:
    lock = take_lock(tmp_path)
    second = "from wily_sluice.gate.kernel.process import *; import pathlib, sys; take_lock(pathlib.Path(sys.argv[1]))"
    command = [sys.executable, "-c", second, str(tmp_path)]
    assert "another gate runs here" in subprocess.run(command, capture_output=True, text=True, check=False).stderr
    os.close(lock)
    assert subprocess.run(command, check=False).returncode == 0
    with pytest.raises(LiveError):
        held = subprocess.Popen([*command[:2], second + "; print(flush=True); sys.stdin.read()", str(tmp_path)],
                                stdin=subprocess.PIPE, stdout=subprocess.PIPE)  # fmt: skip
        try:
            assert held.stdout is not None and held.stdout.readline()
            take_lock(tmp_path)
        finally:
            held.kill()
            held.communicate()


@pytest.mark.skipif(os.geteuid() != 0, reason="mounts a disk, which only root can")
def test_on_a_disk_that_cannot_be_written_the_gate_starts_with_the_plan_that_was_kept(tmp_path: Path) -> None:
    disk = tmp_path / "disk"
    disk.mkdir()
    script = """
import sys
from pathlib import Path
from wily_sluice.cli.running.gate import _begin
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.plan.file.bundle import Bundle
state = Path(sys.argv[1]) / "state"
if sys.argv[2] == "keep":
    store = RevisionStore(state)
    for site in ("One", "Two"):
        plan = Path(sys.argv[3]).read_bytes().replace(b"site: ", b"site: " + site.encode() + b" # ")
        store.record(Bundle(plan), "2027-03-01T00:00:00Z", "root", "", "kept")
    store.close()
else:
    plan, bundle, number = _begin(None, state)
    print(plan.site, number)
"""
    plan = tmp_path / "small.yaml"
    plan.write_text(SMALL_PLAN)
    words = [sys.executable, "-c", script, str(disk)]
    commands = (
        f"mount -t tmpfs none {disk}", shlex.join([*words, "keep", str(plan)]), f"mount -o remount,ro {disk}",
        shlex.join([*words, "begin"]),
    )  # fmt: skip
    command = ["unshare", "--mount", "sh", "-ec", " && ".join(commands)]
    done = subprocess.run(command, capture_output=True, text=True, check=True, cwd=tmp_path)
    assert done.stdout == "Two 2\n" and "history.unusable" in done.stderr


@pytest.mark.skipif(os.geteuid() != 0, reason="becomes somebody else, which only root can")
def test_nobody_but_root_can_keep_a_gate_from_starting(request: pytest.FixtureRequest) -> None:
    folder = Path(tempfile.mkdtemp(prefix="sluice-test-", dir="/run"))
    request.addfinalizer(lambda: shutil.rmtree(folder))
    folder.chmod(0o755)
    os.close(take_lock(folder))
    script = (
        "import os, sys, fcntl; from pathlib import Path; os.setuid(int(sys.argv[2])); folder = Path(sys.argv[1])\n"
        "for path in [*folder.iterdir(), folder / 'net-1.lock']:\n"
        "    try: fcntl.lockf(os.open(path, os.O_RDWR | os.O_CREAT), fcntl.LOCK_EX | fcntl.LOCK_NB)\n"
        "    except OSError: continue\n"
        "    print('taken', path)\n"
    )
    done = subprocess.run([sys.executable, "-c", script, str(folder), str(NOBODY)], capture_output=True, text=True)
    assert (done.stdout, done.returncode) == ("", 0)
    with socket.socket(socket.AF_UNIX) as abstract:  # what others may bind is no lock
        abstract.bind("\0wily-sluice-gate")
        os.close(take_lock(folder))


def test_what_a_gate_keeps_is_for_its_owner_alone_whatever_the_umask_says(tmp_path: Path) -> None:
    folder = tmp_path / "state"
    before = os.umask(0)
    try:
        revisions = RevisionStore(folder)
        revisions.record(Bundle(b"site: x"), "2027-03-01T00:00:00Z", "root", "")
        stores = (revisions, CounterStore(folder), ContactStore(folder), QuotaStore(folder))
        History(folder)
        modes = {path.name: path.stat().st_mode & 0o777 for path in folder.iterdir()}
        for store in stores:
            store.close()
    finally:
        os.umask(before)
    assert folder.stat().st_mode & 0o777 == 0o700
    assert len(modes) >= 4 and set(modes.values()) == {0o600}, modes
    (folder / "contacts.sqlite").chmod(0o644)  # as an earlier program left it
    folder.chmod(0o755)
    ContactStore(folder).close()
    assert (folder / "contacts.sqlite").stat().st_mode & 0o777 == 0o600
    assert folder.stat().st_mode & 0o777 == 0o700


@pytest.mark.parametrize(
    ("home", "file", "owner", "group", "closed"),
    [
        (0o755, 0o644, 1000, 1000, None),
        (0o700, 0o644, 1000, 1000, "home"),  # as homes often are
        (0o700, 0o644, 0, 0, None),  # root's own
        (0o711, 0o644, 1000, 1000, None),  # may be entered, though not listed
        (0o750, 0o644, 1000, 0, None),
        (0o755, 0o640, 1000, 1000, "home/leases"),
        (0o755, 0o600, 0, 0, None),
    ],
)
def test_what_the_service_may_not_read_is_known_before_it_is_installed(
    home: int, file: int, owner: int, group: int, closed: str | None
) -> None:
    """Tried with a process that has lost the capability to override permissions, as the service has."""
    if os.geteuid() != 0:
        pytest.skip("changing owners needs root")
    with tempfile.TemporaryDirectory(dir="/opt") as name:
        top = Path(name)
        top.chmod(0o755)
        (top / "home").mkdir()
        path = top / "home" / "leases"
        path.write_text("x")
        for one, mode in ((path, file), (top / "home", home)):
            one.chmod(mode)
            os.chown(one, owner, group)
        assert closed_to_service(path) == (top / closed if closed else None)
        drop = ["setpriv", "--bounding-set", "-dac_override,-dac_read_search", "--inh-caps", "-all", "cat", str(path)]
        assert (subprocess.run(drop, capture_output=True, check=False).returncode == 0) == (closed is None)
    assert closed_to_service(Path("/nowhere/at/all")) is None
