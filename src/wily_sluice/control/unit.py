"""The gate as a service of systemd: its unit, put in and taken away.

It is ready when it shapes (`Type=notify`), restarted when it fails or hangs (`WatchdogSec`), and has only what
it needs: the capabilities for the kernel's packet queue and chains, for its place before other processes, and for
giving the watchers' socket to a group. It may send to any address, since the remotes that the plan has it ask for their
health (`gate: {probe: …}`) may be anywhere.
"""

import shutil
import stat
import sys
from pathlib import Path

import wily_sluice
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import run
from wily_sluice.history.database import private_folder

UNIT = "wily-sluice.service"
FOLDER = Path("/etc/systemd/system")
_TEXT = """\
[Unit]
Description=Wily Sluice: shapes the uplinks of this gateway
Documentation=man:systemd.service(5)
After=network-pre.target
Before=network.target
StartLimitIntervalSec=0

[Service]
Type=notify
NotifyAccess=main
ExecStart={python} -P -m wily_sluice gate run --quiet --state {state}
Restart=always
RestartSec=1
WatchdogSec=15
TimeoutStartSec=60
TimeoutStopSec=20
OOMScoreAdjust=-500
StateDirectory=wily-sluice
RuntimeDirectory=wily-sluice
RuntimeDirectoryMode=0755
RuntimeDirectoryPreserve=restart
UMask=0077

CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_RAW CAP_SYS_NICE CAP_CHOWN
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths={state} /run
ProtectHome=read-only
PrivateTmp=yes
PrivateDevices=yes
PrivateMounts=yes
DevicePolicy=closed
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
RestrictAddressFamilies=AF_UNIX AF_NETLINK AF_PACKET AF_INET AF_INET6
RestrictNamespaces=yes
RestrictSUIDSGID=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
RemoveIPC=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallErrorNumber=EPERM

[Install]
WantedBy=multi-user.target
"""


def unit_text(state: Path) -> str:
    """The unit, for this installation of the program."""
    return _TEXT.format(python=sys.executable, state=state.absolute())


def closed_to_service(path: Path) -> Path | None:
    """What keeps the service from reading a file: the file, or the outermost folder above it. None if nothing does.

    The service is root without the capability to override permissions.
    """
    for whole in dict.fromkeys((path.absolute(), path.resolve())):
        for part in (*reversed(whole.parents), whole):
            try:
                status = part.stat()
            except FileNotFoundError:
                return None
            shift = 6 if status.st_uid == 0 else 3 if status.st_gid == 0 else 0
            if not status.st_mode >> shift & (1 if stat.S_ISDIR(status.st_mode) else 4):
                return part
    return None


def opened_by(closed: Path) -> str:
    """The command that opens this file or folder to the service."""
    return f"chmod o+{'x' if closed.is_dir() else 'r'} {closed}"


def refuse_private_program() -> None:
    """LiveError when the service could not read this program."""
    for path in (Path(sys.executable), Path(wily_sluice.__file__)):
        closed = closed_to_service(path)
        if closed is not None:
            raise LiveError(
                f"{closed} is closed to the service, which therefore cannot read {path}: install the program in a "
                f"folder that all users may read, such as /opt, or use `{opened_by(closed)}`"
            )


def install(state: Path) -> Path:
    """Put the unit in, and start it now and at every boot. LiveError when that fails; then it is taken away again."""
    _require()
    path = FOLDER / UNIT
    if path.exists():
        raise LiveError(f"{path} is there already: `sluice gate remove` first")
    private_folder(state)
    path.write_text(unit_text(state))
    try:
        run(["systemctl", "daemon-reload"])
        run(["systemctl", "enable", "--now", UNIT])
    except LiveError:
        remove()
        raise
    return path


def remove() -> bool:
    """Stop the service, and take its unit away. False when there was none; the history stays."""
    _require()
    path = FOLDER / UNIT
    if not path.exists():
        return False
    run(["systemctl", "disable", "--now", UNIT], check=False)
    path.unlink()
    run(["systemctl", "daemon-reload"])
    return True


def _require() -> None:
    if shutil.which("systemctl") is None:
        raise LiveError("this machine has no systemd: `sluice gate run` shapes in the foreground")
