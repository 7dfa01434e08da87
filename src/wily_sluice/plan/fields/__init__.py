"""The fields of a rule: reading, condition, reach and wording.

New here: a `Field`, which `registry.FIELDS` then lists.
"""
