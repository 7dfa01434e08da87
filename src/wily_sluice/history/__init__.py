"""What is kept over time, in SQLite."""
