"""The place of a queue in the file."""

from wily_sluice.plan.file.yaml_text import Location


def queue_location(tree: str, path: str) -> Location:
    """The place of a queue of a tree in the file; the tree itself for the empty path."""
    parts = path.split("/") if path else []
    return ("trees", tree, *(word for name in parts for word in ("queues", name)))
