"""What a plan will do: the exact split of a tree, and the lab that simulates lines and applications."""
