"""The effect of a plan: the exact split of a tree, and the lab that simulates lines and applications."""
