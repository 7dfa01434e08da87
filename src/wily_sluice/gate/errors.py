"""Why the live world refuses: the message says what is missing, and what would help."""


class LiveError(Exception):
    """The gate or the rig cannot do what was asked, here and now. Nothing was changed, or it was put back."""
