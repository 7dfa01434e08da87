"""Queues: the tree, the queues of its leaves, and virtual clocks.

New here: a discipline, or another way to choose the next leaf.
"""
