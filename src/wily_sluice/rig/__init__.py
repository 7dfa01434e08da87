"""The rig: a whole site on one machine, from namespaces and virtual links, with a simulated line and far end.

The test bench for the gate: `sluice rig`, the live tests and the benchmarks use it.
"""
