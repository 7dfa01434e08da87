"""Finds problems of a machine that break shaping or falsify figures, and makes the safe changes."""
