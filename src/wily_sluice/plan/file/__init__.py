"""Files as they are written: YAML with its lines, the keys of the plan, words for addresses and traffic.

New here: a key of the file, or another kind of file that a plan names.
"""
