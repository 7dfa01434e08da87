"""Errors that the program reports to the user. The message says what was wrong, and what would be right."""


class SluiceError(Exception):
    """Whatever ends a command with a message in place of a traceback."""


class LiveError(SluiceError):
    """The gate or the rig cannot do this here and now. Nothing was changed, or it was undone."""
