"""Ports that hosts may have opened."""
