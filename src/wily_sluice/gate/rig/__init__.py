"""The rig: a whole site on one machine, from namespaces and virtual links, with a simulated line at the far end.

hosts of each network ── gateway ── line ── far side. It is how the gate is shown and tested with real kernel TCP.
"""
