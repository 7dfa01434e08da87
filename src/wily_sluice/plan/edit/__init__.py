"""Edits the text of a plan file and leaves everything else as it is, byte for byte. Text in, text out; no files.

New here: an operation on the text, or another part of the plan that can be edited.
"""
