"""The meaning of names: groups, places, services.

New here: another way to name hosts, or another sign of a service.
"""
