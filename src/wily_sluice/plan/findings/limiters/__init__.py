"""Findings about limiters without effect.

New here: a kind of finding about a limiter.
"""
