"""Findings about schedules that never apply, or that probably mean something else.

New here: a kind of finding about a schedule.
"""
