"""What is wrong or doubtful in a plan, beyond the form of its file: each kind of finding a file, in rooms by subject.

New here: a file with a `Kind`, which `registry.KINDS` then lists.
"""
