"""Findings about rules: order and gaps.

New here: a kind of finding about a rule.
"""
