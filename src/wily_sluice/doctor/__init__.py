"""Looks at a machine for what makes shaping fail or lie, and mends what can safely be mended."""
