"""What the fields of rules and limiters mean: groups, services, terms, and what rules can reach.

New here: a field of a rule.
"""
