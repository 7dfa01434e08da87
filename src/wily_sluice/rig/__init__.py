"""The rig: a whole site on one machine, from namespaces and virtual links, with a simulated line at the far end.

A test bench beside the gate: `sluice rig`, the live tests and the benchmarks stand on it.
"""
