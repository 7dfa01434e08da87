"""A running gate as lines, tables, the live view, and drawings."""
