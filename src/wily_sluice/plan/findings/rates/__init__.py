"""Findings about the rates of trees: guarantees, caps and delays that contradict each other or cause starvation.

New here: a kind of finding that needs the rates, which depend on the uplink and the direction.
"""
