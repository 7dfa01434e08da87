"""The link between the gate and the process beside it: typed messages, and both ends.

New here: an order to the gate, or something that the gate tells.
"""
