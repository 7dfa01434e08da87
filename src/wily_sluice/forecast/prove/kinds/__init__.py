"""The kinds of promise, each as the tests that it comes to.

New here: a kind of promise; `promises.KINDS` then lists it.
"""
