"""Tries the promises of a plan against the gate that runs, with a far end beyond the line."""
