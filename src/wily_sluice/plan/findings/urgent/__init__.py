"""Findings about what goes first: whether it may use the line, and whether it is what should go first.

New here: a kind of finding about the most urgent queues.
"""
