"""When something holds: windows of a week, dates, calendars, and the periods of quotas.

New here: another way to say when.
"""
