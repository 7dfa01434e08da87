"""How good an application was to those who used it, as a mark.

Of a call: the transmission rating R and the mean opinion score (MOS) of the E-model. Its receiver is assumed to choose
its playout delay as well as can be, which is where the loss of late packets and the delay together do the least harm.

Sources: ITU-T G.107 (06/2015), with the numbers of its equations; G.113 (11/2007), Appendix I, for G.711 with
concealment of lost packets; G.109 (09/1999) for the classes; for the playout delay L. Sun and E. Ifeachor, "Voice
quality prediction models and their application in VoIP networks", IEEE Transactions on Multimedia 8(4), 2006.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log10, sqrt
from typing import Final

import numpy as np

from wily_sluice.units import MILLISECOND, Nanoseconds


@dataclass(frozen=True, slots=True)
class Speech:
    """The parameters of the E-model that a line does not change, at the defaults of G.107, table 3: loudness ratings,
    echo losses and noise in dB, `quantising` in units of distortion.
    """

    sending: float = 8.0  # SLR
    receiving: float = 2.0  # RLR
    sidetone: float = 15.0  # STMR
    sender_diversion: float = 3.0  # Ds
    listener_diversion: float = 3.0  # Dr
    talker_echo: float = 65.0  # TELR
    listener_echo: float = 110.0  # WEPL
    quantising: float = 1.0  # qdu
    circuit_noise: float = -70.0  # Nc, dBm0p
    noise_floor: float = -64.0  # Nfor, dBmp
    sender_room: float = 35.0  # Ps, dB(A)
    receiver_room: float = 35.0  # Pr, dB(A)
    impairment: float = 0.0  # Ie, of the codec
    robustness: float = 4.3  # Bpl: the larger, the less harm a lost packet does
    advantage: float = 0.0  # A


G711: Final = Speech(robustness=25.1)  # G.113, table I.3: with concealment, packets of 20 ms, random loss
PACKET: Final[Nanoseconds] = 20 * MILLISECOND  # of speech, which a sender collects first
TRIED: Final = (50.0, 75.0, 90.0, 95.0, 98.0, 99.0, 99.5, 100.0)  # percentiles of the delay, as playout delays
# G.109, table 1: the least R of each class, in words of ours for how satisfied users are.
CLASSES: Final = (
    (90.0, "very good"), (80.0, "good"), (70.0, "fair"), (60.0, "tiring"), (50.0, "poor"), (0.0, "unusable"),
)  # fmt: skip


def rating(delay: float, loss: float, burst: float = 1.0, speech: Speech = G711) -> float:
    """The transmission rating R, from 0 to 93.2 or so, for a one-way `delay` from mouth to ear in ms, a part of packets
    that is lost, and a `burst` ratio (1 where losses are random).
    """
    s = speech
    both = s.sending + s.receiving  # OLR
    # The basic signal-to-noise ratio (7-2 to 7-7).
    room = s.receiver_room + 10 * log10(1 + 10 ** ((10 - s.sidetone - s.listener_diversion) / 10))
    spoken = s.sender_room - s.sender_diversion
    noises = (
        s.circuit_noise,
        spoken - s.sending - 100 + 0.004 * (spoken - both - 14) ** 2,
        s.receiving - 121 + room + 0.008 * (room - 35) ** 2,
        s.noise_floor + s.receiving,
    )  # fmt: skip
    noise = 10 * log10(sum(10 ** (one / 10) for one in noises))
    basic = 15 - 1.5 * (s.sending + noise)
    delayed = _echoes(delay, noise, basic, s) + _delay(delay)
    lost = s.impairment + (95 - s.impairment) * 100 * loss / (100 * loss / burst + s.robustness)  # (7-29)
    return max(0.0, basic - _at_once(noise, basic, delay, s) - delayed - lost + s.advantage)


def _at_once(noise: float, basic: float, delay: float, s: Speech) -> float:
    """Impairments that come with the speech: loudness, sidetone and quantising (7-8 to 7-16)."""
    loud = s.sending + s.receiving + 0.2 * (64 + noise - s.receiving)
    too_loud = 20 * ((1 + (loud / 8) ** 8) ** (1 / 8) - loud / 8)
    heard = -10 * log10(10 ** (-s.sidetone / 10) + exp(-delay / 4) * 10 ** (-s.talker_echo / 10))
    sidetone = (
        12 * (1 + ((heard - 13) / 6) ** 8) ** (1 / 8)
        - 28 * (1 + ((heard + 1) / 19.4) ** 35) ** (1 / 35)
        - 13 * (1 + ((heard - 3) / 33) ** 13) ** (1 / 13)
        + 29
    )
    ratio = 37 - 15 * log10(s.quantising)
    steps = 1.07 + 0.258 * ratio + 0.0602 * ratio**2
    y, z = (basic - 100) / 15 + 46 / 8.4 - steps / 9, 46 / 30 - steps / 40
    return float(too_loud + sidetone + 15 * log10(1 + 10**y + 10**z))


def _echoes(delay: float, noise: float, basic: float, s: Speech) -> float:
    """Impairments by echoes, of the talker and of the listener (7-18 to 7-26); the round trip is twice the delay."""
    echo = s.talker_echo - 40 * log10((1 + delay / 10) / (1 + delay / 150)) + 6 * exp(-0.3 * delay**2)
    apart = -1.5 * (noise - s.receiving) - (80 + 2.5 * (echo - 14))
    talker = (apart / 2 + sqrt(apart**2 / 4 + 100) - 1) * (1 - exp(-delay))
    apart = basic - float(10.5 * (s.listener_echo + 7) * (2 * delay + 1) ** -0.25)
    return talker + apart / 2 + sqrt(apart**2 / 4 + 169)


def _delay(delay: float) -> float:
    """The impairment by delay alone, which makes a conversation hard beyond 100 ms (7-27, 7-28)."""
    if delay <= 100:
        return 0.0
    x = log10(delay / 100) / log10(2)
    return float(25 * ((1 + x**6) ** (1 / 6) - 3 * (1 + (x / 3) ** 6) ** (1 / 6) + 2))


def opinion(r: float) -> float:
    """The mean opinion score, from 1 to 4.5, for a rating (Annex B)."""
    if r <= 6.5:
        return 1.0
    return 4.5 if r >= 100 else 1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6


@dataclass(frozen=True, slots=True)
class CallMark:
    """One way of a call: `r` and `mos` as above, and the class in a word."""

    r: float
    mos: float
    word: str


def call_mark(delays: Sequence[Nanoseconds], loss: float) -> CallMark | None:
    """The mark for packets with these one-way delays in ns, and a part that was lost; None where none arrived."""
    if not delays:
        return None
    found = np.sort(np.asarray(delays))
    best = 0.0
    for playout in np.percentile(found, TRIED).tolist():
        late = 1 - int(np.searchsorted(found, playout, side="right")) / len(found)
        best = max(best, rating((playout + PACKET) / MILLISECOND, loss + (1 - loss) * late))
    return CallMark(best, opinion(best), next(word for least, word in CLASSES if best >= least))
