"""The effect of a plan: the split and its steps, the lab, sorting."""
