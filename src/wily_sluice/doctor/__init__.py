"""Looks at a machine for what makes shaping fail or lie, and fixes what can safely be fixed."""
