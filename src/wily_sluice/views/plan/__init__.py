"""A plan and its parts: as tables, sentences, data and drawings."""
