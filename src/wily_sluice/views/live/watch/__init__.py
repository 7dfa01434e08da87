"""The live view of a gate: its state (`state`), its cells (`cells`), in a terminal (`screen`), as a table (`plain`)."""
