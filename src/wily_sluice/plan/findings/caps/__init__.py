"""Findings about the size of a limiter's rate.

New here: a kind of finding about the size of a cap.
"""
