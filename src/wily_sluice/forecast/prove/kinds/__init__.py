"""The kinds of promise, each with its tests.

New here: a kind of promise; `promises.KINDS` then lists it.
"""
