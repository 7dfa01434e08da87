"""Findings about rules: order, and what they miss.

New here: a kind of finding about a rule.
"""
