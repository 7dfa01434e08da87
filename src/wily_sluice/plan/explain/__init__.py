"""Explains: the terms of the trade with the part of a plan as the example, choices, rates. Texts and figures, no output.

New here: a term, or another choice that plans have to make.
"""
