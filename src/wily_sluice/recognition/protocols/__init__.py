"""Recognisers of protocols.

New here: a recogniser, which `recognition.RECOGNISERS` then lists.
"""
