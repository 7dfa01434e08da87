"""Findings about parts that others name: groups, services, schedules.

New here: a kind of finding about such a part.
"""
