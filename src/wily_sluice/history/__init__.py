"""Long-term storage, in SQLite."""
