"""Errors and risks in a readable plan: one module per subject.

New here: a `Kind`, which `registry.KINDS` then lists.
"""
