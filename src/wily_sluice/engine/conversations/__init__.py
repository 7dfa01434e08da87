"""Conversations: the table of them, and what only time shows of one.

New here: something that is kept or watched for each conversation.
"""
