"""Recognizers of everything else.

New here: one file for a protocol, which `recognition.RECOGNIZERS` then lists.
"""
