"""Queues: the tree, what a leaf holds packets in, and virtual clocks.

New here: a discipline, or another way to choose which leaf is next.
"""
