"""Measures a line between two machines: test packets of RFC 8762, who sends them, who sends them back, what they tell.

New here: something else to measure.
"""
