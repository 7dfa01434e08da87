"""Limiters: buckets, meters, quotas, and how busy a line is.

New here: a way to cap hosts, whatever queue their packets wait in.
"""
