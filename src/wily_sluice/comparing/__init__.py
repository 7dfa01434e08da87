"""Sets two results side by side: plans, runs of the lab, measurements of a line, proofs. Data in, differences out.

New here: a kind of result that can be compared (`quantities`).
"""
