"""A line without Ethernet, for test_live_survival: an interface that takes whole IP packets, and says what it carried.

`python modem.py NAME ADDRESS`: the address is reached over it. Prints `ready`, then an object a half second.
"""

import fcntl
import json
import os
import select
import struct
import subprocess
import sys
import time

TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 1, 0x1000  # linux/if_tun.h
PERIOD = 0.5


def main(name: str, address: str) -> None:
    end = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(end, TUNSETIFF, struct.pack("16sH", name.encode(), IFF_TUN | IFF_NO_PI))
    subprocess.run(["ip", "addr", "add", "192.0.2.2", "peer", "192.0.2.1", "dev", name], check=True)
    subprocess.run(["ip", "link", "set", name, "up"], check=True)
    subprocess.run(["ip", "route", "add", address, "dev", name], check=True)
    print("ready", flush=True)
    carried, over = 0, time.monotonic() + PERIOD
    while True:
        if select.select([end], (), (), max(0.0, over - time.monotonic()))[0]:
            carried += len(os.read(end, 2048))
        if time.monotonic() >= over:
            print(json.dumps({"bytes": carried}), flush=True)
            carried, over = 0, over + PERIOD


if __name__ == "__main__":
    main(*sys.argv[1:])
