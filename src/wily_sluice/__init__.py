"""Wily Sluice: plan, forecast and shape the internet line of a small office or a home."""

__version__ = "0.1.0"
