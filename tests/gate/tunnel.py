"""A tunnel in user space, as programs for private networks are: packets of a TUN device, each in a UDP packet.

    python -m tests.gate.tunnel DEVICE LOCAL REMOTE PORT

Four bytes go before each packet: its number, as such programs send it against replays.
"""

import fcntl
import os
import select
import socket
import struct
import sys

TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 1, 0x1000  # linux/if_tun.h


def main(device: str, local: str, remote: str, port: str) -> None:
    tun = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(tun, TUNSETIFF, struct.pack("16sH22x", device.encode(), IFF_TUN | IFF_NO_PI))
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
    line.bind((local, int(port)))
    line.connect((remote, int(port)))
    line.setblocking(False)
    number = 0
    print("ready", flush=True)
    while True:
        readable, _, _ = select.select((tun, line), (), ())
        for _ in range(32):
            try:
                if tun in readable:
                    number += 1
                    line.send(struct.pack(">I", number) + os.read(tun, 2048))
                if line in readable:
                    os.write(tun, line.recv(2048)[4:])
            except OSError:  # no more of it, or the other end is not there yet
                break


if __name__ == "__main__":
    main(*sys.argv[1:])
