"""Conversations: their table, and their state over time.

New here: any state or observation for each conversation.
"""
