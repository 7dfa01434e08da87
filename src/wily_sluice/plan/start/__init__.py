"""A first plan from a few answers: kinds of line, purposes to rank, and the resulting plan.

New here: a kind of line, or another question.
"""
