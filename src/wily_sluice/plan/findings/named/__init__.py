"""Findings about what other parts name: groups, services, schedules.

New here: a kind of finding about one of these.
"""
