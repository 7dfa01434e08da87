"""What is wrong or doubtful in a plan, beyond the form of its file.

New here: a finding.
"""
