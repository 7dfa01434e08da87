"""The live view of a gate: what is told (`state`), its cells (`cells`), in a terminal (`screen`), a table (`plain`)."""
