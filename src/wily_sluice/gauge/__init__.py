"""Measures a line between two machines with test packets (RFC 8762) and loads.

New here: another measurement.
"""
