"""Findings about the rates of trees: guarantees, caps and delays that do not fit together, or starve somebody.

New here: a kind of finding that needs the rates, which depend on the uplink and the direction.
"""
