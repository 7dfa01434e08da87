"""The fields of a rule: each a file, with how it is read, what it asks, what it reaches, and how it is said.

New here: a file with a `Field`, which `registry.FIELDS` then lists.
"""
