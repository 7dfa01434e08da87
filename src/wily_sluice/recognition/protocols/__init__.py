"""Recognisers of everything else.

New here: one file for a protocol, which `recognition.RECOGNISERS` then lists.
"""
