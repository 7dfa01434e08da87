"""Findings about the site's uplinks and networks: interfaces, addresses, rates, headroom.

New here: a kind of finding about a line or a network.
"""
