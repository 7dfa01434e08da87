"""The two directions, drawn."""

from typing import Final

ARROWS: Final = {"down": "↓ down", "up": "↑ up"}
