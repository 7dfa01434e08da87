"""Recognises what a conversation speaks, and with whom, from its first packets. No I/O, no clock."""
