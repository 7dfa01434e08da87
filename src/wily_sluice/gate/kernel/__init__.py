"""The kernel, as the gate uses it: the packet queue, the chains that lead there, links and tables.

New here: something that the gate asks of the machine; it belongs to the interface in `machine`.
"""
