"""Which rule a conversation matches: its key, what rules ask of it, and the index that finds the rules that may match.

New here: a question that a rule may ask. What is known of a conversation over time stands in `conversations`.
"""
