"""What the program refuses, or cannot do. The message of each says what is wrong, and what would help."""


class SluiceError(Exception):
    """Whatever ends a command with a message in place of a traceback."""


class LiveError(SluiceError):
    """The gate or the rig cannot do what was asked, here and now. Nothing was changed, or it was undone."""
