"""Findings about schedules: those that never apply, and those that may say something else than was meant.

New here: a kind of finding about a schedule.
"""
