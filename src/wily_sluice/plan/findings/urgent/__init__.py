"""Findings about the most urgent traffic: whether it can use the uplink, and whether it should be urgent.

New here: a kind of finding about the most urgent queues.
"""
