"""Findings about what rules and limiters ask alike: hosts, remotes, ports.

New here: a kind of finding that both can have.
"""
