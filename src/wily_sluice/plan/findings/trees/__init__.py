"""Findings about the form of trees: default leaves, disciplines, queues that nothing uses.

New here: a kind of finding about a tree that needs no rates; those that do are in `rates`.
"""
