"""The process beside the gate: it keeps history and counters, and answers people over its sockets.

New here: a method of the sockets, or a figure for those who collect metrics.
"""
