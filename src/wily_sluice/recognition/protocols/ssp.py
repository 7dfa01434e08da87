"""SSP, the state synchronization protocol of remote terminals over UDP: by the first bytes of its datagrams.

Each begins with 64 bits in the clear; the highest is the direction and the others count from 0. Source: Winstein and
Balakrishnan, "An interactive remote shell for mobile clients", USENIX ATC 2012, §2.2.
"""

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

NUMBERED = 3  # datagrams each way
HEADER = 24  # bytes: the number, and the tag that what follows is checked by
LARGEST_GAP = 4  # of numbers, where some were lost
TO_CLIENT = 1 << 63


def look(opening: Opening) -> Answer:
    """Whether both sides count so; the client's first number is 0."""
    if not opening.datagrams:
        return WAIT
    client = opening.datagrams[0].up
    following = {True: 0, False: 0}  # by whether the client sends it
    counted = {True: 0, False: 0}
    for datagram in opening.datagrams:
        from_client = datagram.up == client
        number = int.from_bytes(datagram.payload[:8]) - (0 if from_client else TO_CLIENT)
        if datagram.length < HEADER or not 0 <= number - following[from_client] < LARGEST_GAP:
            return None
        if from_client and not counted[True] and number:
            return None
        following[from_client] = number + 1
        counted[from_client] += 1
    if min(counted.values()) >= NUMBERED:
        return Verdict("ssp", f"both sides number their datagrams from 0, {NUMBERED} of each seen")
    return WAIT
