"""The process that keeps history and counters, and serves clients over the gate's sockets.

New here: a method of the sockets, or a metric.
"""
