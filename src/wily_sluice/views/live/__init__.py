"""What a running gate does: as lines, tables, the live view, drawings."""
