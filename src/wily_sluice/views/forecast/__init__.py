"""What a plan will do: the split and its steps, the lab, where conversations go."""
