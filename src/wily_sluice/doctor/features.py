"""What network cards do by themselves (linux/ethtool.h): which of it is on, and how that is changed.

A feature stands among the files of the kernel as `ethtool/INTERFACE/FEATURE`, and holds `on` or `off`.
"""

from typing import Final

PREFIX: Final = "ethtool/"
MERGING: Final = ("rx-lro", "rx-gro-hw")  # the card makes one of several packets that came
BYPASSING: Final = ("hw-tc-offload",)  # it forwards without the kernel


def path_of(interface: str, feature: str) -> str:
    """Where a feature stands."""
    return f"{PREFIX}{interface}/{feature}"


def enabled(interface: str) -> frozenset[str]:
    """Those of the features above that are on; none where nobody says."""
    from pyroute2 import Ethtool  # which takes a while to load

    try:
        with Ethtool() as card:
            found = card.get_features(interface).features
    except Exception:  # of many kinds: no such thing, not allowed
        return frozenset()
    return frozenset(name for name in (*MERGING, *BYPASSING) if name in found and found[name].enable)


def read(path: str) -> str:
    """`on` or `off`. OSError when there is no such feature."""
    from pyroute2 import Ethtool

    _, interface, feature = path.split("/")
    with Ethtool() as card:
        found = card.get_features(interface).features
    if feature not in found:
        raise OSError(0, f"{interface} has no feature {feature}")
    return "on" if found[feature].enable else "off"


def write(path: str, value: str) -> None:
    """Switch it. OSError when it stays as it is."""
    from pyroute2 import Ethtool

    _, interface, feature = path.split("/")
    with Ethtool() as card:
        features = card.get_features(interface)
        if feature not in features.features:
            raise OSError(0, f"{interface} has no feature {feature}")
        features.features[feature].enable = value == "on"
        card.set_features(interface, features)
    if read(path) != value:
        raise OSError(0, f"{interface} keeps {feature} {'off' if value == 'on' else 'on'}")
