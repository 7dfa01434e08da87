"""Recognisers of calls and meetings: signalling, finding a path, keys, sound and pictures.

New here: one file for a protocol, which `recognition.RECOGNISERS` then lists.
"""
