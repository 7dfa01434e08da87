"""The link between the gate and its second process: typed messages, and both ends.

New here: an order to the gate, or a report from it.
"""
