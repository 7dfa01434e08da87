"""Follows conversations through a plan: which rule, queue, limiters and mark, and why."""
