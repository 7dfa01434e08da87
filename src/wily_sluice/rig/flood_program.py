"""Sends UDP at full speed, for a measurement of cost: `python -m … LOCAL REMOTE SECONDS SIZE…`.

The sizes are of whole packets, used cyclically by several conversations.
"""

import socket
import sys
import time

CONVERSATIONS = 16
HEADERS = 28  # bytes of IPv4 and UDP
FIRST_PORT = 9000


def main(local: str, remote: str, seconds: str, *sizes: str) -> None:
    """Send."""
    ends = []
    for number in range(CONVERSATIONS):
        end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        end.bind((local, 0))
        end.connect((remote, FIRST_PORT + number))
        ends.append(end)
    payloads = [bytes(int(size) - HEADERS) for size in sizes]
    over = time.monotonic() + float(seconds)
    while time.monotonic() < over:
        for payload in payloads:
            for end in ends:
                try:
                    end.send(payload)
                except OSError:
                    time.sleep(0.0001)  # the interface is full


if __name__ == "__main__":
    main(*sys.argv[1:])
