"""Errors and risks in a readable plan: one kind of finding per file, in rooms by subject.

New here: a file with a `Kind`, which `registry.KINDS` then lists.
"""
