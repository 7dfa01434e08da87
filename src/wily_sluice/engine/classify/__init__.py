"""Which rule a conversation matches: its key, the conditions of rules, and the index that finds candidate rules.

New here: a condition for rules. State of a conversation over time belongs in `conversations`.
"""
