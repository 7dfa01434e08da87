"""Findings about criteria that rules and limiters share: hosts, remotes, ports.

New here: a kind of finding that both can have.
"""
