"""Recognises a conversation's protocol and the far side's name from its first packets. No I/O, no clock."""
