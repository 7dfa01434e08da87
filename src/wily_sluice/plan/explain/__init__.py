"""Explanations as texts and figures: terms of the trade, with a plan as the example; choices; rates. No output.

New here: a term, or another choice that plans have to make.
"""
