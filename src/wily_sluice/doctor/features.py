"""Offload features of network cards (linux/ethtool.h): their state, and how to change it.

A feature appears among the kernel's files as `ethtool/INTERFACE/FEATURE`, and contains `on` or `off`.
"""

from contextlib import suppress
from typing import Any, Final

PREFIX: Final = "ethtool/"
MERGING: Final = ("rx-lro", "rx-gro-hw")  # the card makes one of several packets that came
BYPASSING: Final = ("hw-tc-offload",)  # it forwards without the kernel


def path_of(interface: str, feature: str) -> str:
    """Where a feature stands."""
    return f"{PREFIX}{interface}/{feature}"


def _features(interface: str) -> Any:
    """All features of a card, by their names. OSError when they cannot be read."""
    from pyroute2 import Ethtool  # which takes a while to load

    try:
        with Ethtool() as card:
            return card.get_features(interface)
    except Exception as error:  # of many kinds: no such card, not allowed
        raise OSError(0, f"the card of {interface} does not say") from error


def enabled(interface: str) -> frozenset[str]:
    """The active features among those above; none if unknown."""
    try:
        features = _features(interface).features
    except OSError:
        return frozenset()
    return frozenset(name for name in (*MERGING, *BYPASSING) if name in features and features[name].enable)


def read(path: str) -> str:
    """`on` or `off`. OSError when there is no such feature."""
    _, interface, feature = path.split("/")
    features = _features(interface).features
    if feature not in features:
        raise OSError(0, f"{interface} has no feature {feature}")
    return "on" if features[feature].enable else "off"


def write(path: str, value: str) -> None:
    """Switch it. OSError when it stays as it is."""
    from pyroute2 import Ethtool

    _, interface, feature = path.split("/")
    read(path)
    wanted = _features(interface)
    wanted.features[feature].enable = value == "on"
    with suppress(Exception), Ethtool() as card:  # of many kinds; what has become of it is seen below
        card.set_features(interface, wanted)
    if read(path) != value:
        raise OSError(0, f"{interface} keeps {feature} {'off' if value == 'on' else 'on'}")
