"""Findings about whether a limiter's rate fits those whom it caps.

New here: a kind of finding about the size of a cap.
"""
