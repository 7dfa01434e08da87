"""The fields of a rule, one per file: reading, condition, reach and wording.

New here: a file with a `Field`, which `registry.FIELDS` then lists.
"""
