"""Findings about limiters: those that cap nothing or nobody, or that another makes idle.

New here: a kind of finding about a limiter.
"""
