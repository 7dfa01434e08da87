"""The kinds of parts in a plan, and their places in the file."""

SECTIONS = {
    "uplink": "uplinks",
    "network": "networks",
    "host": "hosts",
    "group": "groups",
    "schedule": "schedules",
    "queue": "trees",
    "limiter": "limiters",
    "rule": "rules",
    "service": "services",
    "tunnel": "tunnels",
    "route": "routes",
    "mapping": "mappings",
}
IN_ORDER = ("rule", "route", "mapping")  # lists: the first that matches decides
LIST_KEY = {"host": "addresses", "group": "members", "schedule": "windows"}  # what a list alone stands for


def some(kind: str) -> str:
    """The kind with its article."""
    return f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"
