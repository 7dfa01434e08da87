"""A first plan from a few answers: what kinds of line there are, what can matter most, and the plan that follows.

New here: a kind of line, or another question.
"""
